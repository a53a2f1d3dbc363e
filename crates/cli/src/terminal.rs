//! The one way to standard output and standard error.
//!
//! In goes text with the program's own [`Style`]s, out goes what a terminal may get: headers, cells, names of files,
//! worksheets and tables can hold escape sequences, other control characters and marks that turn the direction of
//! text; each of them becomes a visible character. Standard error, which is for a person only, is always made
//! harmless; standard output when it is a terminal or colour was asked for, since other programs want it as it is.

use std::fmt::{self, Write as _};
use std::io::{self, IoSlice, IsTerminal, Stdout, Write};
use std::sync::atomic::{AtomicBool, Ordering};

use anstream::{AutoStream, ColorChoice};
use anstyle::AnsiColor;
use ratatui::crossterm::cursor::Show;
use ratatui::crossterm::execute;

use crate::error::Result;
use crate::wording::visible;

/// A style of the program's own. Displayed, it begins; displayed as `{:#}`, it ends.
///
/// A style is a character that no text may contain, which becomes an escape sequence on output. So an
/// escape sequence in a table is not a style.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Style(char);

pub(crate) const PLAIN: Style = Style(END);
pub(crate) const STRONG: Style = Style('\u{fdd0}');
pub(crate) const FAINT: Style = Style('\u{fdd1}');
pub(crate) const GOOD: Style = Style('\u{fdd2}');
pub(crate) const TROUBLE: Style = Style('\u{fdd3}');
pub(crate) const BAD: Style = Style('\u{fdd4}');
pub(crate) const ERROR: Style = Style('\u{fdd5}');

/// The first character of a style, and the one that ends each.
const FIRST: char = STRONG.0;
const END: char = '\u{fddf}';

impl Style {
    /// The escape sequence of a style.
    fn ansi(self) -> anstyle::Style {
        let plain = anstyle::Style::new();
        match self {
            STRONG => plain.bold(),
            FAINT => plain.dimmed(),
            GOOD => AnsiColor::Green.on_default(),
            TROUBLE => AnsiColor::Yellow.on_default(),
            BAD => AnsiColor::Red.on_default(),
            ERROR => AnsiColor::Red.on_default().bold(),
            _ => plain,
        }
    }
}

impl fmt::Display for Style {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match *self {
            PLAIN => Ok(()),
            _ if f.alternate() => f.write_char(END),
            Self(mark) => f.write_char(mark),
        }
    }
}

/// Writes text for a person to standard error. Nobody is left to read it when that is closed.
pub(crate) fn say(text: &str) {
    let _ = said(text);
}

/// Styled text for the result of a command.
///
/// # Errors
/// When it can't be written.
pub(crate) fn said(text: &str) -> io::Result<()> {
    let mut err = AutoStream::auto(io::stderr());
    err.write_all(harmless(text).as_bytes())
}

/// Writes the result of a command to standard output.
///
/// # Errors
/// When it can't be written.
pub(crate) fn show(text: &str) -> Result<()> {
    let mut out = AutoStream::auto(io::stdout());
    let text = if is_seen() { harmless(text) } else { unstyled(text) };
    let written = out.write_all(text.as_bytes());
    let name = "standard output".to_owned();
    Ok(written.map_err(|cause| gather_keys_formats::Error::Write { name, cause })?)
}

/// Whether the program draws on the whole screen.
static HAS_SCREEN: AtomicBool = AtomicBool::new(false);

/// Notes that the program draws on the whole screen.
pub(crate) fn takes_screen() {
    HAS_SCREEN.store(true, Ordering::Relaxed);
}

/// Gives the terminal back as it was, if the program draws on it.
pub(crate) fn give_back() {
    if HAS_SCREEN.swap(false, Ordering::Relaxed) {
        ratatui::restore();
        let _ = execute!(io::stdout(), Show);
    }
}

/// Whether a terminal gets what goes to standard output, now or later.
fn is_seen() -> bool {
    let out = io::stdout();
    out.is_terminal() || AutoStream::choice(&out) != ColorChoice::Never
}

/// Text without what a terminal would obey, but for line ends and the program's own styles.
fn harmless(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut characters = text.chars().peekable();
    while let Some(character) = characters.next() {
        match character {
            '\n' => out.push('\n'),
            // A line may end in both.
            '\r' if characters.peek() == Some(&'\n') => {}
            FIRST..END => {
                let _ = write!(out, "{}", Style(character).ansi());
            }
            END => {
                let _ = write!(out, "{:#}", STRONG.ansi());
            }
            character if is_obeyed(character) => out.push(visible(character)),
            character => out.push(character),
        }
    }
    out
}

/// Text without the program's own styles.
fn unstyled(text: &str) -> String {
    text.chars().filter(|character| !(FIRST..=END).contains(character)).collect()
}

/// Whether a terminal does something other than to show a character: controls, marks that turn the direction of text
/// or break lines, and characters that show nothing.
fn is_obeyed(character: char) -> bool {
    character.is_control()
        || matches!(character,
            '\u{61c}' | '\u{180e}' | '\u{200b}' | '\u{200e}'..='\u{200f}' | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}' | '\u{fdd0}'..='\u{fdef}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}'
            | '\u{e0000}'..='\u{e007f}')
}

/// Standard output for a table: as it is, or harmless where a terminal gets it.
#[derive(Debug)]
pub(crate) struct TableOut {
    out: Stdout,
    is_seen: bool,
    /// The beginning of a character whose rest has yet to come.
    begun: Vec<u8>,
}

impl TableOut {
    pub(crate) fn new() -> Self {
        Self { out: io::stdout(), is_seen: is_seen(), begun: Vec::new() }
    }

    /// Writes all characters that are whole.
    fn write_harmless(&mut self, bytes: &[u8], is_end: bool) -> io::Result<()> {
        self.begun.extend_from_slice(bytes);
        let mut text = String::new();
        let mut rest = &self.begun[..];
        // A line end of two characters may be cut between them, and a character anywhere.
        let mut kept = usize::from(!is_end && rest.last() == Some(&b'\r'));
        rest = &rest[..rest.len() - kept];
        while !rest.is_empty() {
            match str::from_utf8(rest) {
                Ok(whole) => {
                    text.push_str(whole);
                    rest = &[];
                }
                Err(error) => {
                    let (whole, bad) = rest.split_at(error.valid_up_to());
                    text.push_str(str::from_utf8(whole).unwrap_or_default());
                    match error.error_len() {
                        None if !is_end => {
                            kept += bad.len();
                            rest = &[];
                        }
                        length => {
                            text.push(char::REPLACEMENT_CHARACTER);
                            rest = &bad[length.unwrap_or(bad.len())..];
                        }
                    }
                }
            }
        }
        self.begun.drain(..self.begun.len() - kept);
        // Tabs are between cells here.
        let lines = text.split('\t').map(|piece| harmless(&unstyled(piece)));
        self.out.write_all(lines.collect::<Vec<_>>().join("\t").as_bytes())
    }
}

impl Write for TableOut {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.write_vectored(&[IoSlice::new(bytes)])
    }

    fn write_vectored(&mut self, pieces: &[IoSlice<'_>]) -> io::Result<usize> {
        if !self.is_seen {
            return self.out.write_vectored(pieces);
        }
        pieces.iter().try_for_each(|piece| self.write_harmless(piece, false))?;
        Ok(pieces.iter().map(|piece| piece.len()).sum())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

impl Drop for TableOut {
    fn drop(&mut self) {
        if !self.begun.is_empty() {
            // An earlier write has reported a closed stream.
            let _ = self.write_harmless(&[], true).and_then(|()| self.out.flush());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_our_own_styles_reach_a_terminal() {
        assert_eq!(harmless(&format!("{STRONG}Hive{STRONG:#}\r\n")), "\u{1b}[1mHive\u{1b}[0m\n");
        for hostile in [
            "\u{1b}]0;title\u{7}",
            "\u{9b}31m",
            "a\rb",
            "\u{202e}evil",
            "\u{7f}",
            "\u{2066}x\u{2069}",
            "\u{e0041}",
        ] {
            let shown = harmless(hostile);
            assert!(
                !shown.chars().any(|character| character.is_control() || is_obeyed(character)),
                "{hostile:?}: {shown:?}"
            );
        }
        // Letters of any script stay, with their accents and joiners.
        for plain in ["Łódź", "e\u{301}", "می\u{200c}خواهم", "蜂蜜", "👩\u{200d}🌾"]
        {
            assert_eq!(harmless(plain), plain);
        }
        assert_eq!(unstyled(&format!("{STRONG}Hive\u{1b}{STRONG:#}")), "Hive\u{1b}");
    }
}
