//! Options that belong to the table named before them.
//!
//! In go the arguments as they were matched, out come the options of each table: first of the main
//! table, then of the reference of each `--from`.

use clap::ArgMatches;
use clap::parser::ValueSource;

/// What was typed for one table, in order: the option's name and its value.
#[derive(Debug, Default)]
pub(crate) struct TableArguments {
    pub(crate) options: Vec<(&'static str, String)>,
}

/// The options that belong to a table.
const BOUND: [&str; 23] = [
    "on",
    "clean",
    "within",
    "reach",
    "take",
    "leave",
    "when_duplicate",
    "when_unmatched",
    "match_blanks",
    "aliases",
    "order_by",
    "update",
    "replace",
    "bring_blanks",
    "append_unused",
    "name",
    "format",
    "delimiter",
    "encoding",
    "header_row",
    "no_header",
    "ragged",
    "blank",
];

/// Sorts the options that belong to a table under it: first the main table, then a reference for
/// each `--from`.
pub(crate) fn tables_in_order(matches: &ArgMatches) -> Vec<TableArguments> {
    let typed = |id: &str| {
        matches.try_contains_id(id).is_ok()
            && matches.value_source(id) == Some(ValueSource::CommandLine)
    };
    let mut found: Vec<(usize, Option<(&'static str, String)>)> = Vec::new();
    if typed("from") {
        let places = matches.indices_of("from").into_iter().flatten();
        found.extend(places.map(|place| (place, None)));
    }
    for id in BOUND.into_iter().filter(|id| typed(id)) {
        let places = matches.indices_of(id).into_iter().flatten();
        let values = matches.get_many::<String>(id).into_iter().flatten().cloned();
        found.extend(places.zip(values).map(|(place, value)| (place, Some((id, value)))));
    }
    found.sort_by_key(|(place, _)| *place);
    let mut tables = vec![TableArguments::default()];
    for (_, option) in found {
        match option {
            None => tables.push(TableArguments::default()),
            Some(option) => {
                if let Some(table) = tables.last_mut() {
                    table.options.push(option);
                }
            }
        }
    }
    tables
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;
    use crate::arguments::Arguments;

    /// Whatever can be typed can stand in a plan, and the other way round.
    #[test]
    fn options_and_the_keys_of_plans_are_the_same() {
        let schema: serde_json::Value =
            serde_json::from_str(&gather_keys_core::plan::Plan::schema()).unwrap();
        let keys = |path: &str| -> Vec<String> {
            let keys = schema.pointer(path).and_then(serde_json::Value::as_object).unwrap();
            keys.keys().cloned().collect()
        };
        let of_a_table = keys("/$defs/ReferenceTable/properties");
        let mut planned = keys("/properties");
        planned.extend(of_a_table.clone());
        // The tables themselves: MAIN and --from.
        planned.retain(|key| !["main", "reference", "table"].contains(&&key[..]));
        planned.sort();
        planned.dedup();
        let command = Arguments::command();
        let enrich = command.find_subcommand("enrich").unwrap();
        let ids = enrich.get_arguments().map(|argument| argument.get_id().to_string());
        // Those that a plan is read, saved or stood in for with.
        let mut typed: Vec<String> = ids
            .filter(|id| !["main", "other_main", "from", "save_plan"].contains(&&id[..]))
            .collect();
        typed.sort();
        assert_eq!(typed, planned);
        let mut bound = BOUND.map(str::to_owned).to_vec();
        let mut of_a_table = of_a_table;
        of_a_table.retain(|key| key != "table");
        bound.sort();
        of_a_table.sort();
        assert_eq!(bound, of_a_table);
        let of_main = keys("/$defs/MainTable/properties");
        assert!(of_main.iter().all(|key| key == "table" || bound.contains(key)));
    }

    #[test]
    fn an_option_belongs_to_the_table_before_it() {
        let line = "gather-keys enrich --delimiter ; m.csv --from a.csv --on X --take P \
                    --on Y --from b.csv --delimiter tab --take=Q";
        let matches = Arguments::command().get_matches_from(line.split_whitespace());
        let tables = tables_in_order(matches.subcommand().unwrap().1);
        let told: Vec<String> = tables
            .iter()
            .map(|table| {
                let options = table.options.iter().map(|(id, value)| format!("{id} {value}"));
                options.collect::<Vec<_>>().join(", ")
            })
            .collect();
        assert_eq!(told, ["delimiter ;", "on X, take P, on Y", "delimiter tab, take Q"]);
    }
}
