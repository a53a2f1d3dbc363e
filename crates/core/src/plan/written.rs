//! Plans to and from TOML, and their schema.

use std::fmt::Write;

use serde_json::Value;

use super::document::{MainTable, Plan, ReferenceTable, TableForm, Text, Texts};
use crate::{Error, Result};

/// How wide a comment of a written plan may be.
const COMMENT: usize = 78;

impl Plan {
    /// Reads the plan called `name` in messages.
    ///
    /// ```
    /// use gather_keys_core::plan::Plan;
    ///
    /// let text = "[main]\ntable = 'harvest.csv'\n[[reference]]\ntable = 'hives.csv'\non = 'Hive'\n";
    /// let plan = Plan::read("weekly.toml", text)?;
    /// assert_eq!(plan.references[0].on.0[0].text, "Hive");
    /// let error = Plan::read("weekly.toml", &text.replace("on", "onn")).unwrap_err();
    /// assert!(error.to_string().starts_with("weekly.toml, line 5: "));
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`Error::InPlan`] when it is not TOML, or has a key that there is none of, or a value of
    /// another kind.
    pub fn read(name: &str, text: &str) -> Result<Self> {
        toml::from_str(text).map_err(|error| {
            let at = error.span().map_or(0, |span| span.start);
            let said = match error.message().trim_end() {
                "invalid type: map, expected a sequence" => {
                    "a reference stands in double brackets, `[[reference]]`".to_owned()
                }
                said => said.replace('\n', ", "),
            };
            Error::in_plan(name, text, at, Error::PlanMalformed { said })
        })
    }

    /// The plan as TOML, with a comment on each key that says what it is for.
    pub fn write(&self) -> String {
        let schema = schemars::schema_for!(Self).to_value();
        let mut text = String::new();
        let keys = Keys::of(&schema, &["properties"]);
        for (key, value) in self.run_values() {
            keys.write(&mut text, key, value);
        }
        if !text.is_empty() {
            text.push('\n');
        }
        text.push_str("[main]\n");
        let keys = Keys::of(&schema, &["$defs", "MainTable", "properties"]);
        for (key, value) in self.main.values() {
            keys.write(&mut text, key, value);
        }
        let keys = Keys::of(&schema, &["$defs", "ReferenceTable", "properties"]);
        for reference in &self.references {
            text.push_str("\n[[reference]]\n");
            for (key, value) in reference.values() {
                keys.write(&mut text, key, value);
            }
        }
        text
    }

    /// A JSON schema of plans, by which editors complete and check them.
    pub fn schema() -> String {
        let schema = schemars::schema_for!(Self);
        let text = serde_json::to_string_pretty(&schema).unwrap_or_default();
        text + "\n"
    }

    /// The keys of the run that are set.
    fn run_values(&self) -> Vec<(&'static str, toml::Value)> {
        let mut set = Set::default();
        set.text("output", self.output.as_ref());
        set.flag("overwrite", self.overwrite);
        set.flag("in_place", self.in_place);
        set.flag("no_backup", self.no_backup);
        set.text("lists", self.lists.as_ref());
        set.texts("report", &self.report);
        set.flag("no_reasons", self.no_reasons);
        set.texts("require", &self.require);
        set.flag("write_anyway", self.write_anyway);
        set.text("receipt", self.receipt.as_ref());
        set.text("corrections", self.corrections.as_ref());
        set.text("edits", self.edits.as_ref());
        set.flag("quiet", self.quiet);
        set.flag("verbose", self.verbose);
        set.text("progress", self.progress.as_ref());
        set.text("memory", self.memory.as_ref());
        set.number("threads", self.threads.map(u64::from));
        set.flag("plain", self.plain);
        set.flag("guard_formulas", self.guard_formulas);
        set.text("output_encoding", self.output_encoding.as_ref());
        set.0
    }
}

impl MainTable {
    fn values(&self) -> Vec<(&'static str, toml::Value)> {
        let mut set = Set::default();
        set.text("table", Some(&self.table));
        set.form(self.form());
        set.texts("blank", &self.blank);
        set.0
    }
}

impl ReferenceTable {
    fn values(&self) -> Vec<(&'static str, toml::Value)> {
        let mut set = Set::default();
        set.text("table", Some(&self.table));
        set.text("name", self.name.as_ref());
        set.texts("on", &self.on);
        set.text("clean", self.clean.as_ref());
        set.text("within", self.within.as_ref());
        set.text("reach", self.reach.as_ref());
        set.texts("take", &self.take);
        set.texts("leave", &self.leave);
        set.text("when_duplicate", self.when_duplicate.as_ref());
        set.text("when_unmatched", self.when_unmatched.as_ref());
        set.flag("match_blanks", self.match_blanks);
        set.text("aliases", self.aliases.as_ref());
        set.texts("order_by", &self.order_by);
        set.texts("update", &self.update);
        set.text("replace", self.replace.as_ref());
        set.flag("bring_blanks", self.bring_blanks);
        set.flag("append_unused", self.append_unused);
        set.form(self.form());
        set.texts("blank", &self.blank);
        set.0
    }
}

/// Keys with their values, in order; those that are not set are left out.
#[derive(Default)]
struct Set(Vec<(&'static str, toml::Value)>);

impl Set {
    fn text(&mut self, key: &'static str, text: Option<&Text>) {
        self.0.extend(text.map(|text| (key, text.text.clone().into())));
    }

    fn texts(&mut self, key: &'static str, texts: &Texts) {
        let value = match &texts.0[..] {
            [] => return,
            [one] => one.text.clone().into(),
            several => toml::Value::Array(several.iter().map(|t| t.text.clone().into()).collect()),
        };
        self.0.push((key, value));
    }

    /// The keys that say how a file is to be read.
    fn form(&mut self, form: TableForm<'_>) {
        self.text("format", form.format);
        self.text("delimiter", form.delimiter);
        self.text("encoding", form.encoding);
        self.number("header_row", form.header_row);
        self.flag("no_header", form.no_header);
        self.text("ragged", form.ragged);
    }

    fn number(&mut self, key: &'static str, number: Option<u64>) {
        let number = number.and_then(|number| i64::try_from(number).ok());
        self.0.extend(number.map(|number| (key, number.into())));
    }

    fn flag(&mut self, key: &'static str, flag: Option<bool>) {
        self.0.extend(flag.map(|flag| (key, flag.into())));
    }
}

/// The descriptions of the keys of one table of a plan.
struct Keys<'s>(Option<&'s Value>);

impl<'s> Keys<'s> {
    fn of(schema: &'s Value, path: &[&str]) -> Self {
        Self(path.iter().try_fold(schema, |value, key| value.get(key)))
    }

    /// Writes a key with its value, and what it is for before it.
    fn write(&self, text: &mut String, key: &str, value: toml::Value) {
        let about = self.0.and_then(|keys| keys.get(key)?.get("description")?.as_str());
        let mut line = "#".to_owned();
        for word in about.unwrap_or_default().split_whitespace() {
            if line.chars().count() + 1 + word.chars().count() > COMMENT {
                text.push_str(&line);
                text.push('\n');
                "#".clone_into(&mut line);
            }
            line.push(' ');
            line.push_str(word);
        }
        text.push_str(&line);
        text.push('\n');
        // Writing to a text can't fail.
        let _ = match value {
            toml::Value::Array(values) => {
                let values: Vec<String> = values.iter().map(|one| format!("    {one},")).collect();
                let values = values.join("\n");
                writeln!(text, "{key} = [\n{values}\n]")
            }
            value => writeln!(text, "{key} = {value}"),
        };
    }
}
