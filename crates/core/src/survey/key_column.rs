//! A key as a column of its own: made by a template, and taken apart again.

use crate::Error;
use crate::findings::SAMPLES;
use crate::key::Key;
use crate::lookup::{Reference, ReferenceBuilder, Seed, TakenColumns};
use crate::table::{Block, Headers, Sink, Source, without_clash};
use crate::template::{BoundTemplate, PartState, SplitError, StepBuffers, Template};

/// What came of making a key column.
#[derive(Debug)]
pub struct Made {
    /// The rows with their keys: how many there are, which repeat, which are blank or malformed.
    pub census: Reference,
    /// Rows whose key the template could not take apart again.
    pub inseparable: u64,
    /// The first of them: number, line and key.
    pub samples: Vec<(u64, u64, String)>,
}

/// What came of taking a column apart.
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

/// A census of the keys of a table: nothing but the keys is kept.
pub fn census(name: &str, headers: &Headers, key: Key, seed: Seed) -> ReferenceBuilder {
    ReferenceBuilder::new(name, headers, vec![key], Vec::new(), TakenColumns::default(), seed)
}

/// Writes a table with a key column behind its own. The cell is blank where the key is not whole.
///
/// # Errors
/// Those of the source and the sink.
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
    sink.write_headers(headers, &[header.to_owned()])?;
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
        sink.write_block(&block, &every_row(&block), &added)?;
    }
    Ok(Made { census: builder.finish()?, inseparable, samples })
}

fn every_row(block: &Block) -> Vec<usize> {
    (0..block.rows()).collect()
}

/// Whether a key that was made comes apart into just what it was made from.
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

/// Writes a table with the parts of one of its columns behind its own, one for each placeholder of
/// the template, called as `names` say. A value that does not come apart in exactly one way gives
/// blank cells.
///
/// # Errors
/// Those of the source and the sink.
pub fn split<E>(
    source: &mut (impl Source<Error = E> + ?Sized),
    sink: &mut (impl Sink<Error = E> + ?Sized),
    template: &Template,
    column: usize,
    names: &[String],
) -> Result<Taken, E> {
    let mut taken = Taken::default();
    let (mut block, mut added) = (Block::default(), Block::default());
    sink.write_headers(source.headers(), names)?;
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
        sink.write_block(&block, &every_row(&block), &added)?;
    }
    Ok(taken)
}

/// The headers of the columns that a template takes a value apart into, none of them like one of
/// the table's own.
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
