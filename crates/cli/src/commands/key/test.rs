//! `key test`: whether columns are a key of a table.

use std::fmt::Write as _;

use gather_keys_core::findings::{Counts, Gate, Kind};
use gather_keys_core::key::Key;
use gather_keys_core::lookup::Reference;
use gather_keys_core::report::KeyTested;
use gather_keys_core::survey::key_column;
use gather_keys_core::table::Source;

use super::{Keyed, head, lists, tell_census};
use crate::arguments::KeyTest;
use crate::commands::Outcome;
use crate::error::{Error, Result};
use crate::inputs::seed;
use crate::lines::Lines;
use crate::summary;
use crate::terminal::show;
use crate::wording::{counted, joined, wrapped};

/// Tests a key.
pub(super) fn test(test: KeyTest) -> Result<Outcome> {
    let KeyTest { table, templates, require, lists, overwrite, printed } = test;
    let quiet = table.quiet;
    let Keyed { address, mut source, parts, blanks } = Keyed::open(&table, &templates, true)?;
    let stem = address.stem();
    let mut gates = Vec::new();
    for text in &require {
        let gate = Gate::parse(text)?;
        gate.check_names(std::slice::from_ref(&stem))?;
        if !Counts::OF_A_TABLE.contains(&gate.kind()) {
            return Err(Error::NotOfATable { gate: text.clone() });
        }
        gates.push(gate);
    }
    let files =
        lists.as_deref().map(|folder| lists::Files::create(folder, overwrite)).transpose()?;
    let key = Key::new(parts, blanks);
    let builder = key_column::census(&stem, source.headers(), key, seed());
    let census = Reference::load(builder, &mut source)?;

    let counts = Counts::of_table(&census);
    let results: Vec<_> =
        gates.iter().flat_map(|gate| gate.results([(&stem[..], &counts)])).collect();
    let listed = files.map(|files| files.write(&census)).transpose()?;
    let text = || {
        let mut text = String::new();
        if !quiet {
            let parts = census.key().parts().iter().map(|part| part.template().to_string());
            head(&mut text, &stem, source.headers(), &parts.collect::<Vec<_>>().join(", "));
            tell_census(&mut text, &Lines::up_to(census.rows()), &census);
            let _ = writeln!(text, "\n{}", wrapped(&verdict(&census, &counts), 0, "  "));
            if let Some(sentence) = &listed {
                let _ = writeln!(text, "{}", wrapped(sentence, 0, "  "));
            }
        }
        text.push_str(&summary::gates(&results, quiet));
        text
    };
    show(&printed.of(|| KeyTested::of(&census, &results), text))?;
    let holds = results.iter().all(|gate| gate.holds);
    Ok(if holds { Outcome::Done } else { Outcome::Stopped })
}

/// Whether the columns are a key, in a sentence.
fn verdict(census: &Reference, counts: &Counts) -> String {
    let troubles: Vec<String> = [
        (counts.of(Kind::Repeated), "key", "on several rows"),
        (counts.of(Kind::BlankKey), "row", "with a blank part"),
        (counts.of(Kind::Malformed), "row", "with a value that a step can't read"),
    ]
    .into_iter()
    .filter(|(count, ..)| *count > 0)
    .map(|(count, thing, what)| format!("{} {what}", counted(count, thing)))
    .collect();
    let table = census.headers().table();
    match &troubles[..] {
        [] => format!("This is a key of {table}: each row has one, and no two have the same."),
        _ => format!("This is not a key of {table}: it has {}.", joined(&troubles, "and")),
    }
}
