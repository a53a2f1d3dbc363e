//! No text makes a parser panic, and no value makes a parsed template panic.
//!
//! The input is a text and, after a line end, the value that its placeholders get.

use gather_keys_core::findings::Gate;
use gather_keys_core::plan::{On, OnPart, Reach, Selection, Take, Within, parse_blanks};
use gather_keys_core::table::Headers;
use gather_keys_core::template::Template;
use gather_keys_core::value::Point;

/// Parses a text in every grammar, and applies what comes of it to a value.
pub(crate) fn run(text: &str) {
    let (text, value) = text.split_once('\n').unwrap_or((text, "H-007"));
    let _ = Take::parse(text);
    let _ = On::parse(&[text]);
    let _ = Reach::parse(text);
    let _ = Selection::parse("leave", text);
    let _ = Point::of(value);
    let within = Within::parse(text).map(|within| within.main);
    let _ = parse_blanks(text);
    let _ = Gate::parse(text);
    let parts = OnPart::parse(text).into_iter().flatten().map(|part| part.main);
    for template in parts.chain(within).chain(Template::parse("template", text)) {
        let mut names: Vec<&str> = template.headers().collect();
        names.dedup();
        if let Ok(bound) = template.bind(&Headers::new("table", names)) {
            let _ = bound.trace(|_| value, &[]);
        }
        // Long values can be split in many ways, which takes time but shows nothing new.
        if value.len() < 100 {
            let _ = template.split(value);
        }
    }
}
