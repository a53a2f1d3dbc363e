//! Questions on the whole screen, one key press each.

use std::io::{self, Write as _};

use ratatui::DefaultTerminal;
use ratatui::crossterm::event::{self, Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;
use unicode_width::UnicodeWidthStr;

use super::card::{Card, Marked};
use super::{Progress, Reply, View};
use crate::error::{Error, Result};
use crate::terminal::{give_back, takes_screen};
use crate::wording::{cell, number};

/// The keys, in short.
const KEYS: &str = "1-9 choose  y first  n none  s skip  u undo  / search  ? help  q quit";

/// The keys where there is little room.
const FEW_KEYS: &str = "1-9 y n s u / ? q";

/// A screen of fewer rows has little room.
const LOW: u16 = 16;

/// The keys, at length.
const HELP: [&str; 12] = [
    "1 … 9    choose that line: the answer is written at once, and holds in every later run",
    "y        choose the first line",
    "n        none of them is meant: remembered, and not asked again",
    "s        skip it: it is asked again another time",
    "u        take the last answer back, as often as there are answers",
    "/        search the reference by words of its key or its cells",
    "↑ ↓      move the page, where it is longer than the screen",
    "q        quit: all answers are kept, and the next review goes on from there",
    "",
    "Characters that the other side lacks are underlined.",
    "",
    "Any key goes back to the question.",
];

/// How wide a column of a choice is at most, and at least where space is short.
const WIDEST: usize = 36;
const NARROWEST: usize = 6;

/// The screen of the terminal.
pub(super) struct Screen {
    terminal: DefaultTerminal,
}

impl Screen {
    /// Takes the screen of the terminal, until it is given back.
    ///
    /// # Errors
    /// When the terminal refuses.
    pub(super) fn open() -> Result<Self> {
        let terminal = ratatui::try_init().map_err(|cause| Error::Terminal { cause })?;
        takes_screen();
        Ok(Self { terminal })
    }

    /// Draws lines with one at the top and one at the bottom of the screen, the lines between from `above` on; returns by how
    /// much they are too many.
    fn draw(&mut self, top: &str, lines: &[Line<'_>], bottom: &str, above: usize) -> Result<usize> {
        let mut surplus = 0;
        let drawn = self.terminal.draw(|frame| {
            let area = frame.area();
            let line =
                |y: u16| Rect { x: area.x, y, width: area.width, height: 1.min(area.height) };
            let bold = Style::new().add_modifier(Modifier::BOLD);
            let reversed = Style::new().add_modifier(Modifier::REVERSED);
            let wide = usize::from(area.width);
            let filled = |text: &str| format!("{text:<wide$}");
            frame.render_widget(Line::styled(filled(&cell(top, wide)), bold), line(area.y));
            let below = wrapped(bottom, wide);
            let high = (below.len() as u16).min(area.height.saturating_sub(1));
            for (nth, text) in below.iter().take(usize::from(high)).enumerate() {
                let y = area.bottom() - high + nth as u16;
                frame.render_widget(Line::styled(filled(text), reversed), line(y));
            }
            let body = Rect { y: area.y + 1, height: area.height.saturating_sub(1 + high), ..area };
            surplus = lines.len().saturating_sub(usize::from(body.height));
            let shown = lines.iter().skip(above.min(surplus)).cloned().collect::<Vec<_>>();
            frame.render_widget(Paragraph::new(shown), body);
        });
        drawn.map_err(|cause| Error::Terminal { cause })?;
        Ok(surplus)
    }

    /// The width of the screen.
    fn width(&self) -> usize {
        self.terminal.size().map_or(80, |size| usize::from(size.width))
    }

    /// Waits for a key; `None` when the screen has another size.
    fn key() -> Result<Option<KeyEvent>> {
        loop {
            match event::read().map_err(|cause| Error::Terminal { cause })? {
                Event::Key(key) if key.kind != KeyEventKind::Release => return Ok(Some(key)),
                Event::Resize(..) => return Ok(None),
                _ => {}
            }
        }
    }

    /// Shows what the keys do.
    fn help(&mut self) -> Result<()> {
        loop {
            let width = self.width();
            let lines: Vec<Line<'_>> = HELP
                .iter()
                .flat_map(|line| wrapped_after(line, 9, width))
                .map(Line::from)
                .collect();
            self.draw("Keys", &lines, "any key goes back", 0)?;
            if Self::key()?.is_some() {
                return Ok(());
            }
        }
    }

    /// Takes a line of text; `None` when it is given up.
    fn search(&mut self, top: &str, card: &Card) -> Result<Option<String>> {
        let mut text = String::new();
        loop {
            let lines = lines(card, self.width());
            let bottom = format!("search for: {text}_   (Enter searches, Esc goes back)");
            self.draw(top, &lines, &bottom, 0)?;
            let Some(key) = Self::key()? else { continue };
            match key.code {
                KeyCode::Enter if !text.trim().is_empty() => return Ok(Some(text)),
                KeyCode::Enter | KeyCode::Esc => return Ok(None),
                KeyCode::Backspace => {
                    text.pop();
                }
                KeyCode::Char('c') if key.modifiers.contains(KeyModifiers::CONTROL) => {
                    return Ok(None);
                }
                KeyCode::Char(character) => text.push(character),
                _ => {}
            }
        }
    }
}

impl View for Screen {
    fn wait(&mut self, what: &str) -> Result<()> {
        self.draw("Review", &[Line::from(""), Line::from(what.to_owned())], "", 0)?;
        Ok(())
    }

    fn ask(&mut self, card: &Card, progress: Progress) -> Result<Reply> {
        let (nth, all) = progress.question;
        let top = format!(
            "Question {} of {}, {} answered",
            number(nth as u64),
            number(all as u64),
            number(progress.answered as u64)
        );
        let mut above = 0_usize;
        loop {
            let lines = lines(card, self.width());
            let is_low = self.terminal.size().is_ok_and(|size| size.height < LOW);
            let keys = if is_low { FEW_KEYS } else { KEYS };
            let surplus = self.draw(&top, &lines, keys, above)?;
            above = above.min(surplus);
            let Some(key) = Self::key()? else { continue };
            let is_control = key.modifiers.contains(KeyModifiers::CONTROL);
            match key.code {
                KeyCode::Char('c' | 'd') if is_control => return Ok(Reply::Quit),
                KeyCode::Char('l') if is_control => {
                    self.terminal.clear().map_err(|cause| Error::Terminal { cause })?;
                }
                KeyCode::Char(_) if is_control => {}
                KeyCode::Char(digit @ '1'..='9') => {
                    return Ok(Reply::Choose(digit as usize - '1' as usize));
                }
                KeyCode::Char('y') => return Ok(Reply::Choose(0)),
                KeyCode::Char('n') => return Ok(Reply::None),
                KeyCode::Char('s') => return Ok(Reply::Skip),
                KeyCode::Char('u') => return Ok(Reply::Undo),
                KeyCode::Char('q') => return Ok(Reply::Quit),
                KeyCode::Char('/') => {
                    if let Some(text) = self.search(&top, card)? {
                        return Ok(Reply::Search(text));
                    }
                }
                KeyCode::Char('?') => self.help()?,
                KeyCode::Down => above += 1,
                KeyCode::Up => above = above.saturating_sub(1),
                _ => {}
            }
        }
    }

    fn confirm(&mut self, question: &str) -> Result<bool> {
        loop {
            let width = self.width();
            let text = wrapped(question, width);
            let lines: Vec<Line<'_>> =
                std::iter::once(String::new()).chain(text).map(Line::from).collect();
            self.draw("Review", &lines, "y yes  n no", 0)?;
            match Self::key()?.map(|key| key.code) {
                Some(KeyCode::Char('y')) => return Ok(true),
                Some(KeyCode::Char('n' | 'q' | 'c') | KeyCode::Esc) => return Ok(false),
                _ => {}
            }
        }
    }

    fn end(&mut self) {
        give_back();
        let _ = io::stdout().flush();
    }
}

/// The lines of a card on a screen of this width.
fn lines(card: &Card, width: usize) -> Vec<Line<'static>> {
    let mut lines: Vec<Line<'static>> = vec![Line::from("")];
    let say = |lines: &mut Vec<Line<'static>>, text: &str| {
        lines.extend(wrapped(text, width).into_iter().map(Line::from));
    };
    say(&mut lines, &card.heading);
    lines.push(Line::from(""));
    let named = card.fields.iter().map(|(name, _)| name.width()).max().unwrap_or(0).min(WIDEST);
    for (name, value) in &card.fields {
        let mut spans =
            vec![Span::raw(format!("  {}  ", padded(&cell(name, named.max(1)), named)))];
        spans.extend(marked(value, width.saturating_sub(named + 4).max(1)).0);
        lines.push(Line::from(spans));
    }
    lines.push(Line::from(""));
    for known in &card.known {
        say(&mut lines, known);
    }
    if let Some(note) = &card.note {
        lines.extend(
            wrapped(note, width)
                .into_iter()
                .map(|line| Line::styled(line, Style::new().add_modifier(Modifier::BOLD))),
        );
    }
    if card.choices.is_empty() {
        if card.note.is_none() {
            say(&mut lines, "Nothing comes near; / searches the reference.");
        }
        return lines;
    }
    say(&mut lines, &card.question);
    lines.push(Line::from(""));
    let widths = widths(card, width.saturating_sub(4));
    let mut header = vec![Span::raw("    ")];
    for (name, &wide) in card.headers.iter().zip(&widths) {
        let text = format!("{}  ", padded(&cell(name, wide), wide));
        header.push(Span::styled(text, Style::new().add_modifier(Modifier::BOLD)));
    }
    lines.push(Line::from(header));
    for (nth, choice) in card.choices.iter().enumerate() {
        let mut spans = vec![Span::raw(format!(" {}  ", nth + 1))];
        for (value, &wide) in choice.iter().zip(&widths) {
            let (shown, used) = marked(value, wide);
            spans.extend(shown);
            spans.push(Span::raw(" ".repeat(wide.saturating_sub(used) + 2)));
        }
        lines.push(Line::from(spans));
    }
    lines
}

/// The widths of the columns of the choices that fit next to each other.
fn widths(card: &Card, room: usize) -> Vec<usize> {
    let natural = |nth: usize| {
        let cells =
            card.choices.iter().filter_map(|choice| choice.get(nth)).map(|one| one.text.width());
        cells.chain([card.headers[nth].width()]).max().unwrap_or(1).clamp(1, WIDEST)
    };
    let mut widths: Vec<usize> = (0..card.headers.len()).map(natural).collect();
    let total =
        |widths: &[usize]| widths.iter().map(|wide| wide + 2).sum::<usize>().saturating_sub(2);
    // The widest become narrower; where that is not enough, the last are left out.
    while total(&widths) > room {
        let widest = widths.iter().copied().max().unwrap_or(0);
        if widest <= NARROWEST * 2 && widths.len() > 1 {
            widths.pop();
        } else if let Some(one) = widths.iter_mut().find(|wide| **wide == widest && widest > 1) {
            *one -= 1;
        } else {
            break;
        }
    }
    widths
}

/// A text no wider than `most`, underlined where it differs, and its width.
fn marked(value: &Marked, most: usize) -> (Vec<Span<'static>>, usize) {
    if value.text.is_empty() {
        let text = cell("(blank)", most);
        let used = text.width();
        return (vec![Span::styled(text, Style::new().add_modifier(Modifier::DIM))], used);
    }
    let shown = cell(&value.text, most);
    let used = shown.width();
    let differs = Style::new().add_modifier(Modifier::UNDERLINED | Modifier::BOLD);
    let mut spans: Vec<(bool, String)> = Vec::new();
    for (character, mark) in
        shown.chars().zip(value.marks.iter().copied().chain(std::iter::repeat(false)))
    {
        match spans.last_mut() {
            Some((is, text)) if *is == mark => text.push(character),
            _ => spans.push((mark, character.to_string())),
        }
    }
    let style = |mark: bool| if mark { differs } else { Style::new() };
    (spans.into_iter().map(|(mark, text)| Span::styled(text, style(mark))).collect(), used)
}

/// A text with blanks after it, up to a width.
fn padded(text: &str, wide: usize) -> String {
    format!("{text}{}", " ".repeat(wide.saturating_sub(text.width())))
}

/// A text in lines of a width, with what can't be seen made visible.
fn wrapped(text: &str, width: usize) -> Vec<String> {
    let seen: String = text.chars().map(crate::wording::visible).collect();
    textwrap::wrap(&seen, width.max(8)).into_iter().map(std::borrow::Cow::into_owned).collect()
}

/// The same with later lines indented.
fn wrapped_after(text: &str, indent: usize, width: usize) -> Vec<String> {
    let indent = " ".repeat(indent);
    let options = textwrap::Options::new(width.max(24)).subsequent_indent(&indent);
    textwrap::wrap(text, options).into_iter().map(std::borrow::Cow::into_owned).collect()
}
