//! The step `date`: one spelling of a date or date-time; see [`crate::value::date`].

use std::sync::Arc;

use super::{Done, Step, StepKind};
use crate::value::calendar_names::CalendarNames;
use crate::value::date::{ISO, has_a_day, write_date, write_serial};
use crate::value::trimmed;

pub(super) static DATE: StepKind = StepKind {
    name: "date",
    form: "date [FORMAT …]",
    does: "writes a date, or a date and time, as ISO 8601 does; FORMAT as in \
           POSIX `strptime`, several are tried in order, and one with a space or a comma in it \
           is written in double quotes; without one, the value is ISO 8601; `%B` and `%A` read English names of months \
           and weekdays, whole or cut, and others in a list in double quotes; `date serial` reads a workbook's day number",
    examples: &[
        ("date %d.%m.%Y", "5.7.2026", Some("2026-07-05")),
        ("date %d.%m.%Y \"%d %B %Y\"", "5 July 2026", Some("2026-07-05")),
        ("date \"%d %B %Y\"", "5 jul. 2026", Some("2026-07-05")),
        (
            "date \"%d. %B %Y\" \"Januar, Februar, März, April, Mai, Juni, Juli, August, September, Oktober, November, Dezember\"",
            "5. März 2026",
            Some("2026-03-05"),
        ),
        ("date %d.%m.%y", "05.07.26", Some("2026-07-05")),
        ("date %d.%m.%Y", "05.07.26", None),
        ("date \"%d.%m.%Y %H:%M\"", "05.07.2026 14:30", Some("2026-07-05T14:30:00")),
        ("date", "2026-07-05 14:30", Some("2026-07-05T14:30:00")),
        ("date", "2026-02-31", None),
        ("date serial", "45943", Some("2025-10-13")),
        ("date serial", "45943.5", Some("2025-10-13T12:00:00")),
        ("date", "", Some("")),
    ],
    read: |phrase| {
        if phrase.bare_word("serial") {
            return Ok(Arc::new(Serial));
        }
        let (mut formats, mut names) = (Vec::new(), Vec::new());
        loop {
            phrase.skip_space();
            let start = phrase.at();
            let format = match phrase.text()? {
                None => phrase.bare_from('%').map(str::to_owned),
                quoted => quoted,
            };
            match format {
                Some(format) if has_a_day(&format) => formats.push(format),
                Some(list) if !list.contains('%') && CalendarNames::parse(&list).is_some() => {
                    names.extend(CalendarNames::parse(&list));
                }
                Some(_) => {
                    phrase.back_to(start);
                    return phrase
                        .expected("a date format with year, month and day, such as `%d.%m.%Y`");
                }
                None if formats.is_empty() => {
                    return Ok(Arc::new(Formats(ISO.map(str::to_owned).to_vec(), names)));
                }
                None => return Ok(Arc::new(Formats(formats, names))),
            }
        }
    },
};

#[derive(Debug)]
struct Formats(Vec<String>, Vec<CalendarNames>);

impl Step for Formats {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        let text = &value[trimmed(value)];
        if text.is_empty() {
            return Done::Slice(0..0);
        }
        let written = write_date(text, &self.0, &self.1, out);
        written.map_or(Done::Unreadable, |()| Done::Written)
    }
}

#[derive(Debug)]
struct Serial;

impl Step for Serial {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        let text = &value[trimmed(value)];
        if text.is_empty() {
            return Done::Slice(0..0);
        }
        write_serial(text, out).map_or(Done::Unreadable, |()| Done::Written)
    }
}

#[cfg(test)]
mod tests {
    use crate::template::Template;

    fn dated(step: &str, value: &str) -> Option<String> {
        let template = Template::parse("template", &format!("x | {step}")).unwrap();
        let bound = template.bind_with(|_| Ok(0)).unwrap();
        bound.placeholder_values(|_| value, &[]).remove(0)
    }

    #[test]
    fn dates_are_read_or_refused_but_never_moved() {
        for (step, value, want) in [
            ("date", "2026-7-5", Some("2026-07-05")),
            ("date", " 2026-07-05\u{a0}", Some("2026-07-05")),
            ("date", "2024-02-29", Some("2024-02-29")),
            ("date", "2025-02-29", None),
            ("date", "2026-07-05x", None),
            ("date", "26-07-05", None),
            ("date", "2026-07-05T14:30:00.250", Some("2026-07-05T14:30:00.25")),
            ("date", "2026-07-05 00:00:00", Some("2026-07-05T00:00:00")),
            ("date", "2026-07-05T14:30:00Z", Some("2026-07-05T14:30:00Z")),
            ("date", "2026-07-05T14:30:00+02:00", Some("2026-07-05T12:30:00Z")),
            ("date", "2026-07-05 14:30+02:00", Some("2026-07-05T12:30:00Z")),
            ("date", "2026-07-05 24:30", None),
            ("date \"%d/%m/%Y\" \"%m/%d/%Y\"", "07/20/2026", Some("2026-07-20")),
            ("date \"%d/%m/%Y\" \"%m/%d/%Y\"", "05/07/2026", Some("2026-07-05")),
            ("date \"%I:%M %p, %d %b %Y\"", "2:05 pm, 5 Jul 2026", Some("2026-07-05T14:05:00")),
            ("date \"%A, %d %b %Y\"", "sunday, 5 July 2026", Some("2026-07-05")),
            ("date \"%a %d %B %Y\"", "Monday 5 Jul 2026", None),
            ("date \"%y%m%d\"", "690101", Some("1969-01-01")),
            ("date %Y%m%d", "20261105", Some("2026-11-05")),
            ("date %Y%m%d", "2026115", None),
            ("date %d%m%Y", "1112026", None),
            ("date \"%Y%m%d %H%M\"", "20261105 0930", Some("2026-11-05T09:30:00")),
            ("date \"%Y%m%d %H%M\"", "20261105 930", None),
            ("date \"%d%b%Y\"", "5nov2026", Some("2026-11-05")),
            ("date serial", "1", Some("1900-01-01")),
            ("date serial", "59", Some("1900-02-28")),
            ("date serial", "60", None),
            ("date serial", "61", Some("1900-03-01")),
            ("date serial", "0", None),
            ("date serial", "-5", None),
            ("date serial", "2958465", Some("9999-12-31")),
            ("date serial", "2958466", None),
            ("date serial", "45943.999999", Some("2025-10-14")),
            ("date serial", "45943.0000115741", Some("2025-10-13T00:00:01")),
            ("date serial", "2025-10-13", None),
        ] {
            assert_eq!(dated(step, value).as_deref(), want, "{step} on {value}");
        }
    }

    #[test]
    fn serial_ends_where_its_word_does() {
        for text in
            ["{x | date serial}", "{x|date serial}-{x | date serial | last 2}", "x | date serial"]
        {
            assert!(Template::parse("template", text).is_ok(), "{text}");
        }
        assert!(Template::parse("template", "x | date serials").is_err());
        let on = crate::plan::On::parse(&["Day | date serial, Hive"]).unwrap();
        assert!(matches!(on, crate::plan::On::Key(parts) if parts.len() == 2));
    }
}
