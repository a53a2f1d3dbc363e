//! Plans to and from TOML, and their schema.

use std::fmt::Write;

use super::{Plan, PlanKey};
use crate::{Error, Result};

/// How wide a comment of a written plan may be, in characters.
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
                    "a reference is written in double brackets, `[[reference]]`".to_owned()
                }
                said => said.replace('\n', ", "),
            };
            Error::in_plan(name, text, at, Error::PlanMalformed { said })
        })
    }

    /// The plan as TOML, with a comment before each key that says what it is for.
    pub fn write(&self) -> String {
        let mut text = String::new();
        write_keys(&mut text, self.values());
        if !text.is_empty() {
            text.push('\n');
        }
        text.push_str("[main]\n");
        write_keys(&mut text, self.main.values());
        for reference in &self.references {
            text.push_str("\n[[reference]]\n");
            write_keys(&mut text, reference.values());
        }
        text
    }

    /// A JSON schema of plans, by which editors complete and check them.
    pub fn schema() -> String {
        let schema = schemars::schema_for!(Self);
        let text = serde_json::to_string_pretty(&schema).unwrap_or_default();
        text + "\n"
    }
}

/// Writes keys with their values, each after a comment that says what it is for.
fn write_keys(text: &mut String, keys: Vec<(&PlanKey, toml::Value)>) {
    for (key, value) in keys {
        let mut line = "#".to_owned();
        for word in key.about.split_whitespace() {
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
        let name = key.name;
        // Writing to a `String` can't fail.
        let _ = match value {
            toml::Value::Array(values) => {
                let values: Vec<String> = values.iter().map(|one| format!("    {one},")).collect();
                let values = values.join("\n");
                writeln!(text, "{name} = [\n{values}\n]")
            }
            value => writeln!(text, "{name} = {value}"),
        };
    }
}
