//! Corrections as findings: cells that a person settled by hand, and what became of them.

/// A cell as a person wants it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Correction {
    /// The values of the key columns in the rows that it applies to.
    pub key: Vec<String>,
    /// The header of the cell.
    pub header: String,
    /// The value it is to have.
    pub value: String,
    /// Its row in the table of corrections, from 1.
    pub row: u64,
}

/// The outcome of one correction.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Corrected {
    /// The correction.
    pub correction: Correction,
    /// How many cells have another value for it.
    pub changed: u64,
    /// How many had that value without it.
    pub same: u64,
}
