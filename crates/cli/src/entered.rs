//! A key that is entered into a plan file, whose other lines stay as a person wrote them.

use gather_keys_core::plan::Plan;

/// A plan's text with one more key of the run, before its first table; `None` where the result would not be read as the
/// same plan with that key.
pub(crate) fn entered(name: &str, text: &str, key: &str, value: &str) -> Option<String> {
    let line = format!("{key} = {}\n", toml_text(value));
    let wanted = {
        let mut plan = Plan::read(name, text).ok()?;
        plan.add(key, value).then_some(plan)?
    };
    // A line that begins with a bracket may also be within an array.
    let tables = text.match_indices('[').map(|(at, _)| at);
    let mut begins = tables.filter(|&at| at == 0 || text[..at].ends_with('\n'));
    begins.find_map(|at| {
        // Comments right above a table are about it.
        let about: usize = text[..at]
            .split_inclusive('\n')
            .rev()
            .take_while(|line| line.starts_with('#'))
            .map(str::len)
            .sum();
        let (before, rest) = text.split_at(at - about);
        let before = before.trim_end_matches(['\n', '\r']);
        let between = if before.is_empty() { "" } else { "\n" };
        let changed = format!("{before}{between}{line}\n{rest}");
        let read = Plan::read(name, &changed).ok()?;
        (read == wanted).then_some(changed)
    })
}

/// A plan's text with one more key of a reference, right after the line that begins it; `None` where the result would not be
/// read as the same plan with that key.
pub(crate) fn entered_in_reference(
    name: &str,
    text: &str,
    nth: usize,
    key: &str,
    value: &str,
) -> Option<String> {
    let line = format!("{key} = {}\n", toml_text(value));
    let wanted = {
        let mut plan = Plan::read(name, text).ok()?;
        plan.references.get_mut(nth)?.add(key, value).then_some(plan)?
    };
    let mut begins = 0;
    let ends = text.split_inclusive('\n').map(|line| {
        begins += line.len();
        (line, begins)
    });
    let mut headers = ends.filter(|(line, _)| line.trim_start().starts_with("[["));
    headers.find_map(|(header, end)| {
        let between = if header.ends_with('\n') { "" } else { "\n" };
        let changed = format!("{}{between}{line}{}", &text[..end], &text[end..]);
        let read = Plan::read(name, &changed).ok()?;
        (read == wanted).then_some(changed)
    })
}

/// A text in TOML.
fn toml_text(text: &str) -> String {
    let escaped: String = text
        .chars()
        .map(|character| match character {
            '"' | '\\' => format!("\\{character}"),
            character if character.is_control() => format!("\\u{:04X}", u32::from(character)),
            character => character.to_string(),
        })
        .collect();
    format!("\"{escaped}\"")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_is_entered_and_all_else_stays() {
        let plan = "# Weekly\noutput = \"o.csv\" # here\nreport = [\n  \"a.md\",\n]\n\n# The main one\n[main]\n\
                    table = 'm.csv'\n[[reference]]\ntable = 'r.csv'\non = 'K'\ntake = 'V'\n";
        let changed = entered("p.toml", plan, "corrections", "my \"fixes\"\\x.csv").unwrap();
        let want = plan.replace(
            "]\n\n# The main one\n",
            "]\ncorrections = \"my \\\"fixes\\\"\\\\x.csv\"\n\n# The main one\n",
        );
        assert_eq!(changed, want);
        let bare = "[main]\ntable = 'm'\n";
        let changed = entered("p.toml", bare, "corrections", "c.csv").unwrap();
        assert_eq!(changed, format!("corrections = \"c.csv\"\n\n{bare}"));
        // A plan that has the key is left alone.
        assert_eq!(entered("p.toml", &changed, "corrections", "d.csv"), None);
    }

    #[test]
    fn a_key_is_entered_in_the_right_reference() {
        let plan = "[main]\ntable = 'm.csv'\n[[reference]] # hives\ntable = 'h.csv'\non = 'K'\n\n[[ reference ]]\n\
                    table = 'r.csv'\non = 'K'\n";
        let changed = entered_in_reference("p.toml", plan, 1, "aliases", "a.csv").unwrap();
        assert_eq!(
            changed,
            plan.replace("[[ reference ]]\n", "[[ reference ]]\naliases = \"a.csv\"\n")
        );
        let changed = entered_in_reference("p.toml", &changed, 0, "aliases", "b.csv").unwrap();
        assert!(changed.contains("# hives\naliases = \"b.csv\"\ntable"), "{changed}");
        assert_eq!(entered_in_reference("p.toml", &changed, 0, "aliases", "c.csv"), None);
    }
}
