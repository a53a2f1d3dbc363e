//! The receipt of a run inside a database.
//!
//! In go the tables as the server has them and what was found; out come what has moved since the run before and the file. The
//! server makes the sums of tables, whatever the order of their rows, and finds the keys that the receipt has marks of.

use std::path::PathBuf;

use gather_keys_core::receipt::{File, KeysSeen, Receipt};
use gather_keys_core::sql::StoredTable;
use gather_keys_formats::commit::Finished;
use gather_keys_formats::postgresql::InDatabase;
use gather_keys_formats::{Address, Error as FormatError, Stamp, WholeFile};

use super::Found;
use crate::call::{Call, Destination};
use crate::error::{Error, Result};
use crate::receipts::{self, Draft, ReadTable, Written};
use crate::summary;
use crate::typed::{Asked, as_receipt_has_it};

/// The receipt that is written, and that of the run before.
pub(super) struct Receipted {
    path: PathBuf,
    file: WholeFile,
    before: Option<Receipt>,
}

/// What the server says of the tables that it read, and of the keys of each reference: unmatched ones, and duplicate ones.
pub(super) struct Noted {
    tables: Vec<ReadTable>,
    keys: Vec<(KeysSeen, KeysSeen)>,
}

impl Receipted {
    /// Reads the receipt of the run before, and begins the file.
    pub(super) fn begin(call: &Call) -> Result<Option<Self>> {
        let Some(path) = call.receipt.clone() else { return Ok(None) };
        if call.into == Destination::Main {
            return Err(Error::ReceiptOfMain { name: call.main.address.to_string() });
        }
        let (before, was) = receipts::read(&path)?.unzip();
        let file = WholeFile::create(&path, true)?;
        if was.is_some_and(|was| Stamp::of_path(&path).ok() != Some(was)) {
            return Err(FormatError::TargetChanged { name: path.display().to_string() }.into());
        }
        Ok(Some(Self { path, file, before }))
    }

    /// The receipt of the run before.
    pub(super) fn before(&self) -> Option<&Receipt> {
        self.before.as_ref()
    }

    /// What the run before wrote to an address.
    pub(super) fn output_at(&self, address: &Address) -> Option<&File> {
        let output = self.before.as_ref()?.output.as_ref()?;
        Some(&output.file).filter(|file| file.path == address.to_string())
    }

    /// Whether files that are there are as the run before wrote them.
    pub(super) fn has_written(&self, paths: &[PathBuf]) -> bool {
        let before = self.before.as_ref();
        before.is_some_and(|before| receipts::has_written(before, &self.path, paths))
    }

    /// What the server has to say of the tables and the keys, before it writes.
    pub(super) fn noted(
        database: &mut InDatabase,
        call: &Call,
        main: &StoredTable,
        found: &Found,
    ) -> Result<Noted> {
        let all = call.references.iter().zip(&found.tables);
        let all = all.map(|((table, plan), stored)| (&plan.name[..], &table.address, stored));
        let all = std::iter::once(("main", &call.main.address, main)).chain(all);
        let tables: Result<Vec<ReadTable>> = all
            .map(|(role, address, stored)| read_table(database, role, address, stored))
            .collect();
        let keys = found.script.lookups.iter().map(|queries| {
            let [unmatched, duplicate] = database.marked_keys(queries)?;
            Ok((unmatched, duplicate))
        });
        let keys: Result<Vec<(KeysSeen, KeysSeen)>> = keys.collect();
        Ok(Noted { tables: tables?, keys: keys? })
    }

    /// What the receipt says, but for the output.
    pub(super) fn draft(
        &self,
        (asked, call): (&Asked, &Call),
        found: &Found,
        Noted { tables, keys }: Noted,
    ) -> Result<Draft> {
        let lookups = found.enrichment.lookups().zip(&call.references);
        let aliases = lookups.filter_map(|(lookup, (table, _))| {
            let file = table.aliases.as_ref()?.path()?;
            Some((lookup.reference().name(), file, lookup.aliases().count()))
        });
        let plan = as_receipt_has_it(&asked.plan, &self.path);
        let run = receipts::Run {
            plan: &plan,
            tables,
            corrections: found.corrections.as_ref().map(|(file, _)| file),
            aliases: aliases.collect(),
            enrichment: &found.enrichment,
            findings: &found.findings,
            keys,
        };
        Draft::new(run, &self.path)
    }

    /// What has moved since the run before; `None` where there was none.
    pub(super) fn moved(&self, draft: &Draft) -> Option<Vec<String>> {
        Some(summary::moved(&draft.moved_since(self.before.as_ref()?, false)))
    }

    /// The whole file, next to the other ones that appear, and a sentence on it where it is the first.
    pub(super) fn finish(
        self,
        (draft, sum): (Draft, (u64, String)),
        address: &Address,
        lists: &[(PathBuf, &Finished)],
    ) -> Result<(Finished, Option<String>)> {
        let is_first = self.before.is_none();
        let said = is_first.then(|| format!("Wrote the receipt {}.", self.path.display()));
        let written = Written {
            address,
            sum,
            content: None,
            table: None,
            added: &[],
            marked: Vec::new(),
            lists,
        };
        Ok((draft.finish(self.file, &written)?, said))
    }
}

/// A table that the server read.
fn read_table(
    database: &mut InDatabase,
    role: &str,
    address: &Address,
    stored: &StoredTable,
) -> Result<ReadTable> {
    let sum = database.sum_of(stored)?;
    Ok(ReadTable {
        role: role.to_owned(),
        address: address.clone(),
        headers: stored.headers.iter().map(str::to_owned).collect(),
        rows: sum.rows,
        modified: None,
        sum: (sum.bytes, sum.digest),
    })
}
