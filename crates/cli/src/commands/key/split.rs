//! `key split`: a key column split by the template that made it.

use std::fmt::Write as _;

use gather_keys_core::findings::{CountGate, GateResult};
use gather_keys_core::report::{Document, KeySplit as SplitTold};
use gather_keys_core::survey::key_column::{self, OUTCOMES_OF_SPLITTING, Taken};
use gather_keys_core::table::Source;
use gather_keys_core::template::Template;
use gather_keys_formats::Address;

use super::{Keyed, begin_output, head, samples};
use crate::arguments::KeySplit;
use crate::commands::Outcome;
use crate::error::{Error, Result};
use crate::lines::Lines;
use crate::output::{self, Form};
use crate::summary;
use crate::terminal::{GOOD, PLAIN, TROUBLE, say, show};
use crate::wording::{counted, joined, share, wrapped};

/// Writes a table with the parts of a key column.
pub(super) fn split(split: KeySplit) -> Result<Outcome> {
    let KeySplit { table, template, column, require, output, printed } = split;
    let quiet = table.quiet;
    let template = Template::parse("template", &template)?;
    let mut gates = Vec::new();
    for text in &require {
        gates.push(CountGate::parse(text, &OUTCOMES_OF_SPLITTING)?);
    }
    let to = Address::new(&output.output);
    if printed.is_json() && to == Address::Standard {
        return Err(Error::TableAndJson);
    }
    let Keyed { address, mut source, .. } = Keyed::open(&table, &[], false)?;
    let found = source.headers().find(&column)?;
    let names = key_column::split_names(&template, source.headers());
    let mut out = begin_output(&address, &output, !gates.is_empty())?;
    let form = Form::like(source.layout(), &to, None);
    let mut writer = out.writer(&form)?;
    let taken = key_column::split(&mut source, &mut writer, &template, found.column, &names)?;
    output::finish(writer)?;
    let to = out.name();
    let stem = address.stem();
    let results = gates.iter().filter_map(|gate| gate.result(&stem, &taken.counts(), taken.rows));
    let results: Vec<GateResult> = results.collect();
    let holds = results.iter().all(|gate| gate.holds);
    if holds {
        out.appear(source.file())?;
    }
    let (column, template) = (source.headers().name(found.column), template.to_string());
    if printed.is_json() {
        let of = (source.headers().table(), column, &template[..]);
        let told = SplitTold::of(of, &names, &taken, &results);
        show(&SplitTold { written: holds.then_some(to), ..told }.json())?;
    } else {
        let mut text = String::new();
        if !quiet {
            head(&mut text, column, source.headers(), &template);
            tell_taken(&mut text, &taken);
            let _ = writeln!(text, "{}", wrapped(&written(&to, holds, &taken, &names), 0, "  "));
        }
        if !results.is_empty() && !quiet {
            text.push('\n');
        }
        text.push_str(&summary::gates(&results, quiet));
        say(&text);
    }
    Ok(if holds { Outcome::Done } else { Outcome::Stopped })
}

fn written(to: &str, holds: bool, taken: &Taken, names: &[String]) -> String {
    if !holds {
        return summary::not_written(to);
    }
    let added = counted(names.len() as u64, "added column");
    let names = joined(names, "and");
    format!("Wrote {} to {to}, with {added} ({names}).", counted(taken.rows, "row"))
}

/// How many values were split, and which were not.
fn tell_taken(text: &mut String, taken: &Taken) {
    let lines = Lines::up_to(taken.rows);
    let [no_way, several] = &taken.samples;
    let samples =
        [Vec::new(), Vec::new(), samples(no_way, lines.room()), samples(several, lines.room())];
    let styles = [GOOD, PLAIN, TROUBLE, TROUBLE];
    for (((label, count), style), samples) in taken.counts().into_iter().zip(styles).zip(&samples) {
        let measure = format!("{:>8}", share(count, taken.rows));
        lines.line(text, (label, count, &measure), style, (samples, count));
    }
    lines.total(text, taken.rows);
    text.push('\n');
    if taken.no_way > 0 {
        let advice = "not fitting: the value does not fit the template; correct it, or split these rows \
                      with another template.";
        summary::paragraph(text, 2, advice);
    }
    if taken.several_ways > 0 {
        let advice = "many ways: the value fits the template in more than one way, so it is not split; \
                      a part must not contain the text between the parts.";
        summary::paragraph(text, 2, advice);
    }
    if taken.no_way + taken.several_ways > 0 {
        text.push('\n');
    }
}
