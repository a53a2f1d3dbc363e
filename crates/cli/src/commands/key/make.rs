//! `key make`: a key column, made by a template.

use std::fmt::Write as _;

use gather_keys_core::survey::key_column;
use gather_keys_core::table::Source;
use gather_keys_formats::Address;

use super::{Keyed, begin_output, head, samples, tell, tell_census};
use crate::arguments::KeyMake;
use crate::commands::Outcome;
use crate::error::Result;
use crate::inputs::seed;
use crate::lines::{Lines, plural};
use crate::output::{self, Form};
use crate::summary;
use crate::terminal::TROUBLE;
use crate::wording::{counted, wrapped};

/// Writes a table with a key column.
pub(super) fn make(make: KeyMake) -> Result<Outcome> {
    let KeyMake { table, template, header, output } = make;
    let quiet = table.quiet;
    let Keyed { address, mut source, parts, blanks } = Keyed::open(&table, &[template], false)?;
    let [template] = &parts[..] else { return Ok(Outcome::Done) };
    let mut out = begin_output(&address, &output, false)?;
    let name = key_column::made_name(&header, source.headers());
    let form = Form::like(source.layout(), &Address::new(&output.output), None);
    let mut writer = out.writer(&form)?;
    let made = key_column::make(&mut source, &mut writer, template, &blanks, &name, seed())?;
    output::finish(writer)?;
    let to = out.name();
    out.appear(source.file())?;

    let mut text = String::new();
    if name != header {
        text.push_str(&summary::notes(&[gather_keys_core::enrich::Note::Renamed {
            wanted: header,
            given: name.clone(),
        }]));
    }
    head(&mut text, &name, source.headers(), &template.template().to_string());
    let lines = Lines::up_to(made.census.rows());
    tell_census(&mut text, &lines, &made.census);
    let behind: Vec<String> = samples(&made.samples, lines.room());
    let measure = plural(made.inseparable, "row");
    lines.line(
        &mut text,
        ("inseparable", made.inseparable, &measure),
        TROUBLE,
        (&behind, made.inseparable),
    );
    if made.census.groups().next().is_some() {
        text.push('\n');
        let advice = "repeated: the key is not unique; add a column to the template that \
                      distinguishes these rows.";
        summary::paragraph(&mut text, 2, advice);
    }
    if made.inseparable > 0 {
        let advice = "inseparable: the template can't split these keys again, because a value contains \
                      the text between the parts; put another text there.";
        text.push('\n');
        summary::paragraph(&mut text, 2, advice);
    }
    let rows = counted(made.census.rows(), "row");
    let _ = writeln!(text, "\n{}", wrapped(&format!("Wrote {rows} to {to}."), 0, "  "));
    tell(quiet, &text);
    Ok(Outcome::Done)
}
