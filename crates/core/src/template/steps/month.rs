//! The step `month`: the number of a month, from its name or a date.

use std::sync::Arc;

use super::{Done, Step, StepKind};
use crate::value::calendar_names::{CalendarNames, month};
use crate::value::date::canonical;
use crate::value::trimmed;

pub(super) static MONTH: StepKind = StepKind {
    name: "month",
    form: "month [NAMES]",
    does: "writes the number of a month, 1 to 12, from its number, its name in English, or a date; `month \"Januar, \
           Februar, …\"` reads twelve other names too",
    examples: &[
        ("month", "January", Some("1")),
        ("month", "01", Some("1")),
        ("month", "sept.", Some("9")),
        ("month", "2026-05-19", Some("5")),
        ("month", "2026-05", Some("5")),
        (
            "month \"janvier, février, mars, avril, mai, juin, juillet, août, septembre, octobre, novembre, décembre\"",
            "Août",
            Some("8"),
        ),
        ("month", "13", None),
        ("month", "Ju", None),
        ("month", "", Some("")),
    ],
    read: |phrase| {
        phrase.skip_space();
        let start = phrase.at();
        let Some(text) = phrase.text()? else { return Ok(Arc::new(Month(Vec::new()))) };
        match CalendarNames::parse(&text).filter(CalendarNames::are_months) {
            Some(names) => Ok(Arc::new(Month(vec![names]))),
            None => {
                phrase.back_to(start);
                phrase.expected("the names of twelve months, separated by commas, in double quotes")
            }
        }
    },
};

#[derive(Debug)]
struct Month(Vec<CalendarNames>);

impl Step for Month {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        let text = &value[trimmed(value)];
        if text.is_empty() {
            return Done::Slice(0..0);
        }
        let is_number = text.len() <= 2 && text.bytes().all(|byte| byte.is_ascii_digit());
        let number = if is_number {
            text.parse().ok()
        } else {
            month(text, &self.0).or_else(|| of_date(text))
        };
        match number.filter(|number| (1..=12).contains(number)) {
            Some(number) => {
                out.push_str(itoa::Buffer::new().format(number));
                Done::Written
            }
            None => Done::Unreadable,
        }
    }
}

/// The month of a date, or of a year and a month, in ISO 8601.
fn of_date(text: &str) -> Option<usize> {
    let is_of_year = text.len() == 7 && text.is_ascii();
    let date = if is_of_year { canonical(&format!("{text}-01")) } else { canonical(text) }?;
    date.get(5..7)?.parse().ok()
}
