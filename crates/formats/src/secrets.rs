//! Passwords in texts that a person wrote: found wherever they are, so that no message repeats them.
//!
//! A well-formed address is a [`ServerAddress`](crate::postgresql::ServerAddress), which prints itself without its
//! password. This is for all else: excerpts of plans with a slip on the line, and addresses that are none. It takes
//! away too much rather than too little.

use std::ops::Range;

/// The characters that begin and end a quoted text.
const QUOTES: [char; 4] = ['"', '\'', '`', '´'];

/// A text without the passwords in it.
///
/// ```
/// use gather_keys_formats::without_passwords;
///
/// let said = without_passwords("no file postgress://edda:secret@db/co-op");
/// assert_eq!(said, "no file postgress://edda@db/co-op");
/// assert_eq!(without_passwords("user=edda password='my secret'"), "user=edda password=");
/// ```
pub fn without_passwords(text: &str) -> String {
    without_passwords_at(text, 0).0
}

/// [`without_passwords`], with the offset that the byte `at` of the text has afterwards.
///
/// ```
/// use gather_keys_formats::without_passwords_at;
///
/// let plan = "table = postgres://edda:secret@db";
/// assert_eq!(without_passwords_at(plan, 31), ("table = postgres://edda@db".to_owned(), 24));
/// ```
pub fn without_passwords_at(text: &str, at: usize) -> (String, usize) {
    let (mut kept, mut end, mut moved) = (String::new(), 0, at);
    for secret in passwords(text) {
        kept.push_str(&text[end..secret.start]);
        if at > secret.start {
            moved -= at.min(secret.end) - secret.start;
        }
        end = secret.end;
    }
    kept.push_str(&text[end..]);
    (kept, moved)
}

/// The ranges of the passwords in a text, in order, each with what joins it to the rest.
///
/// ```
/// assert_eq!(gather_keys_formats::passwords("postgres://edda:secret@db"), [15..22]);
/// ```
pub fn passwords(text: &str) -> Vec<Range<usize>> {
    let (mut found, mut begin) = (Vec::<Range<usize>>::new(), 0);
    for line in text.split_inclusive('\n') {
        for secret in passwords_of_line(line) {
            let secret = begin + secret.start..begin + secret.end;
            if found.last().is_none_or(|before| before.end <= secret.start) {
                found.push(secret);
            }
        }
        begin += line.len();
    }
    found
}

/// Whether the name of an option, perhaps written with percent characters, is one of a password.
pub(crate) fn is_password_name(name: &str) -> bool {
    let name = percent_decoded(name).to_lowercase();
    ["password", "passwd", "passphrase", "pwd", "secret"].iter().any(|word| name.contains(word))
}

/// Text with its percent characters resolved, as far as they are any.
pub(crate) fn percent_decoded(text: &str) -> String {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((first, behind)) = rest.split_first() {
        let digits = behind.get(..2).and_then(|two| str::from_utf8(two).ok());
        let byte =
            digits.filter(|_| *first == b'%').and_then(|two| u8::from_str_radix(two, 16).ok());
        bytes.push(byte.unwrap_or(*first));
        rest = if byte.is_some() { &behind[2..] } else { behind };
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

/// The ranges of passwords in a line, in order.
fn passwords_of_line(line: &str) -> Vec<Range<usize>> {
    let mut found = Vec::new();
    found.extend(line.match_indices("://").filter_map(|(at, _)| in_address(line, at)));
    found.extend(line.match_indices('@').filter_map(|(at, _)| before_host(line, at)));
    found.extend(line.match_indices('=').filter_map(|(at, _)| of_option(line, at)));
    found.sort_by_key(|secret| (secret.start, usize::MAX - secret.end));
    found
}

/// The password of an address whose scheme ends at a place, with the colon before it.
fn in_address(line: &str, scheme_end: usize) -> Option<Range<usize>> {
    let slashes = line[scheme_end + 1..].bytes().take_while(|byte| *byte == b'/').count();
    let begin = scheme_end + 1 + slashes;
    let rest = &line[begin..];
    let user = rest
        .find([':', '/', '@', '?', '#'].as_slice())
        .filter(|&at| rest[at..].starts_with(':'))?;
    let colon = begin + user;
    let digits = line[colon + 1..].bytes().take_while(u8::is_ascii_digit).count();
    let behind_digits = line[colon + 1 + digits..].chars().next();
    let is_port = digits > 0
        && behind_digits != Some('@')
        && behind_digits.is_none_or(|character| !character.is_alphanumeric());
    if is_port && !behind_digits.is_some_and(|character| ":!$%".contains(character)) {
        return None;
    }
    let quoted = quoted_until(line, scheme_end);
    let own = quoted.unwrap_or_else(|| {
        colon + line[colon..].find(char::is_whitespace).unwrap_or(line.len() - colon)
    });
    if own <= colon {
        // The colon comes after the quotes and is not part of the address.
        return None;
    }
    let host =
        line[colon..own].rfind('@').or_else(|| line[colon..].rfind('@')).map(|at| colon + at);
    Some(colon..host.unwrap_or(own))
}

/// The end of the quotes around an address whose scheme ends at a place: a quote that no text follows.
fn quoted_until(line: &str, scheme_end: usize) -> Option<usize> {
    let is_of_scheme =
        |character: char| character.is_ascii_alphanumeric() || "+-.".contains(character);
    let before = line[..scheme_end].trim_end_matches(is_of_scheme);
    let quote = before.chars().next_back().filter(|quote| QUOTES.contains(quote))?;
    let ends = |at: usize| {
        let behind = line[at + quote.len_utf8()..].chars().next();
        behind.is_none_or(|character| !character.is_alphanumeric() && character != '@')
    };
    let quotes = line[scheme_end..].match_indices(quote).map(|(at, _)| scheme_end + at);
    Some(quotes.into_iter().find(|&at| ends(at)).unwrap_or(line.len()))
}

/// The password before the `@` of something that is like an address but has no scheme, or half of one.
fn before_host(line: &str, at: usize) -> Option<Range<usize>> {
    let is_end = |character: char| character.is_whitespace() || QUOTES.contains(&character);
    let begin = line[..at]
        .rfind(is_end)
        .map_or(0, |end| end + line[end..].chars().next().map_or(1, char::len_utf8));
    let word = &line[begin..at];
    if word.contains("://") {
        return None;
    }
    let mut colons = word.match_indices(':').map(|(colon, _)| colon);
    let first = colons.next()?;
    // A scheme is followed by a slash, or by the colon of a password.
    let colon = match colons.next() {
        Some(second) => second,
        None if word[first + 1..].starts_with('/') => return None,
        None => first,
    };
    (!word[colon + 1..].is_empty()).then_some(begin + colon..at)
}

/// The value of an option for a password, whose equals character is at a place.
fn of_option(line: &str, equals: usize) -> Option<Range<usize>> {
    let is_of_name = |character: char| character.is_alphanumeric() || "_-%.".contains(character);
    let before = line[..equals].trim_end().trim_end_matches(QUOTES);
    let name = &before[before.trim_end_matches(is_of_name).len()..];
    if !is_password_name(name) {
        return None;
    }
    let begin = equals + 1 + (line.len() - equals - 1 - line[equals + 1..].trim_start().len());
    let value = &line[begin..];
    let quote = value.chars().next().filter(|character| QUOTES.contains(character));
    let length = match quote {
        Some(quote) => value[1..].find(quote).map_or(value.len(), |end| end + 2),
        None => value
            .find(|character: char| character.is_whitespace() || "&#,;\"'`".contains(character))
            .unwrap_or(value.len()),
    };
    Some(begin..begin + length)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_password_stays() {
        for text in [
            "postgres://edda@db/co-op#hives",
            "postgres://db:5433/co-op#a@b",
            "postgres://edda@db:5433/co-op?sslmode=disable#own.hives",
            "hives.csv has no header `Keeper`; the nearest is `Keepers`",
            "plan.toml, line 4: unknown field `columns`, expected one of `output`, `main`",
            "C:\\tables\\hives.csv",
            "row 3: Edda@Fellside is on 2 rows",
            "give one in PGPASSWORD or the password file, ~/.pgpass",
            "https://example.org/hives.csv",
            "there is no command `postgres://edda`: `gather-keys -h` lists the commands",
        ] {
            assert_eq!(without_passwords(text), text);
        }
    }

    proptest::proptest! {
        /// Whatever a text is like, its passwords are found.
        #[test]
        fn any_text_is_looked_through(text in "[a:/@?#`'\" =%é.\n]{0,24}|postgres://[a:@`'\" /]{0,12}") {
            let hidden = without_passwords(&text);
            proptest::prop_assert_eq!(without_passwords(&hidden).lines().count(), hidden.lines().count());
        }
    }
}
