//! A key as a column of its own: made by a template, and split again.

use crate::Error;
use crate::findings::SAMPLES;
use crate::key::Key;
use crate::lookup::{Reference, ReferenceBuilder, Seed, TakenColumns};
use crate::table::{Block, Headers, OutputColumns, Overlay, Sink, Source, without_clash};
use crate::template::{BoundTemplate, PartState, SplitError, StepBuffers, Template};

/// The result of making a key column.
#[derive(Debug)]
pub struct Made {
    /// The rows with their keys: how many there are, which repeat, which are blank or malformed.
    pub census: Reference,
    /// Rows whose key the template could not split again.
    pub inseparable: u64,
    /// The first of them: number, line and key.
    pub samples: Vec<(u64, u64, String)>,
}

/// The result of splitting a column.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Taken {
    /// How many rows there are.
    pub rows: u64,
    /// Rows with nothing in the column.
    pub blank: u64,
    /// Rows whose value does not have the template's form.
    pub no_way: u64,
    /// Rows whose value has it in several ways.
    pub several_ways: u64,
    /// The first of the rows that were left whole: number, line and value, for each reason.
    pub samples: [Vec<(u64, u64, String)>; 2],
}

impl Taken {
    /// How many values were split.
    pub fn split(&self) -> u64 {
        self.rows - self.blank - self.no_way - self.several_ways
    }

    /// How often each of [`OUTCOMES_OF_SPLITTING`] occurs.
    pub fn counts(&self) -> [(&'static str, u64); 4] {
        let counts = [self.split(), self.blank, self.no_way, self.several_ways];
        std::array::from_fn(|nth| (OUTCOMES_OF_SPLITTING[nth], counts[nth]))
    }
}

/// What may become of a value that is split, in the words of messages and gates.
pub const OUTCOMES_OF_SPLITTING: [&str; 4] = ["split", "blank", "not fitting", "many ways"];

/// A census of the keys of a table: nothing but the keys is kept.
pub fn census(name: &str, headers: &Headers, key: Key, seed: Seed) -> ReferenceBuilder {
    ReferenceBuilder::new(name, headers, vec![key], Vec::new(), TakenColumns::default(), seed)
}

/// Writes a table with a key column after its own. The cell is blank where the key is not whole.
///
/// # Errors
/// The errors of the source and the sink.
pub fn make<E: From<Error>>(
    source: &mut (impl Source<Error = E> + ?Sized),
    sink: &mut (impl Sink<Error = E> + ?Sized),
    template: &BoundTemplate,
    blanks: &[String],
    header: &str,
    seed: Seed,
) -> Result<Made, E> {
    let key = Key::new(vec![template.clone()], blanks.to_vec());
    let headers = source.headers();
    let mut builder = census(headers.table(), headers, key, seed);
    let (mut inseparable, mut samples) = (0, Vec::new());
    let (mut block, mut added, mut work) =
        (Block::default(), Block::default(), StepBuffers::default());
    let columns = OutputColumns::all(headers, &[header.to_owned()], Overlay::default());
    sink.write_headers(&columns)?;
    while source.read_block(&mut block)? {
        builder.add(&block)?;
        added.reset(1);
        for row in 0..block.rows() {
            let cell = |column| block.cell(row, column);
            let is_whole = template.value(cell, blanks, &mut work, |state, value| {
                let is_whole = state == PartState::Whole;
                added.push_cell(if is_whole { value } else { "" });
                is_whole
            });
            let made = added.cell(row, 0);
            if is_whole && !comes_apart(template, made, cell, blanks) {
                inseparable += 1;
                if samples.len() < SAMPLES {
                    samples.push((block.row_number(row), block.line(row), made.to_owned()));
                }
            }
        }
        sink.write_block(&columns, &block, &every_row(&block), &added)?;
    }
    Ok(Made { census: builder.finish()?, inseparable, samples })
}

fn every_row(block: &Block) -> Vec<usize> {
    (0..block.rows()).collect()
}

/// Whether splitting a key that was made gives exactly the values it was made from.
fn comes_apart<'c>(
    template: &BoundTemplate,
    made: &str,
    cell: impl Fn(usize) -> &'c str,
    blanks: &[String],
) -> bool {
    if template.template().is_bare() {
        return true;
    }
    template.template().split(made).is_ok_and(|values| {
        let from = template.placeholder_values(cell, blanks);
        values.iter().map(Some).eq(from.iter().map(Option::as_ref))
    })
}

/// Writes a table with the parts of one of its columns after its own, one for each placeholder of the
/// template, with the headers `names`. A value that can't be split in exactly one way gives blank cells.
///
/// # Errors
/// The errors of the source and the sink.
pub fn split<E>(
    source: &mut (impl Source<Error = E> + ?Sized),
    sink: &mut (impl Sink<Error = E> + ?Sized),
    template: &Template,
    column: usize,
    names: &[String],
) -> Result<Taken, E> {
    let mut taken = Taken::default();
    let (mut block, mut added) = (Block::default(), Block::default());
    let columns = OutputColumns::all(source.headers(), names, Overlay::default());
    sink.write_headers(&columns)?;
    while source.read_block(&mut block)? {
        added.reset(names.len());
        for row in 0..block.rows() {
            let value = block.cell(row, column);
            taken.rows += 1;
            let parts = if value.is_empty() {
                taken.blank += 1;
                Vec::new()
            } else {
                template.split(value).unwrap_or_else(|unfit| {
                    let samples = match unfit {
                        SplitError::NoWay => {
                            taken.no_way += 1;
                            &mut taken.samples[0]
                        }
                        SplitError::SeveralWays => {
                            taken.several_ways += 1;
                            &mut taken.samples[1]
                        }
                    };
                    if samples.len() < SAMPLES {
                        samples.push((block.row_number(row), block.line(row), value.to_owned()));
                    }
                    Vec::new()
                })
            };
            for nth in 0..names.len() {
                added.push_cell(parts.get(nth).map_or("", String::as_str));
            }
        }
        sink.write_block(&columns, &block, &every_row(&block), &added)?;
    }
    Ok(taken)
}

/// The headers of the columns that a template splits a value into, none of them equal to one of the
/// table's own.
pub fn split_names(template: &Template, headers: &Headers) -> Vec<String> {
    let own: Vec<String> = headers.iter().map(str::to_owned).collect();
    let wanted: Vec<String> = template.headers().map(str::to_owned).collect();
    without_clash(&own, &wanted, "part")
}

/// The header of a made key column: the one asked for, unless the table has it already.
pub fn made_name(header: &str, headers: &Headers) -> String {
    let own: Vec<String> = headers.iter().map(str::to_owned).collect();
    without_clash(&own, &[header.to_owned()], "key").concat()
}
