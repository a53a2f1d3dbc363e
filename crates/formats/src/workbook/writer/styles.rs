//! The styles of cells: a number format on a ground, and the number that a worksheet writes for it.
//!
//! The library that writes styles numbers them. [`Styles`] makes the same ones in the same order for each workbook, so
//! that the numbers of a first workbook, which holds nothing else, are those of the last.

use gather_keys_core::table::RowOutcome;
use rust_xlsxwriter::{Color, Format, FormatAlign, FormatPattern};

use crate::workbook::shown::Shown;
use crate::workbook::xlsx::number_format::{Shows, shows};

/// How many decimals a number is shown with at most.
const MOST_DECIMALS: usize = 15;

/// A pattern, its name in a workbook, and the colour of its lines.
type Pattern = (FormatPattern, &'static str, u32);

/// The grounds that cells are on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(in crate::workbook) enum Ground {
    Plain,
    Taken,
    Changed,
    /// Those of a row that has no answer, by why.
    Unmatched,
    Ambiguous,
    BlankKey,
    Malformed,
}

impl Ground {
    const ALL: [Self; 7] = [
        Self::Plain,
        Self::Taken,
        Self::Changed,
        Self::Unmatched,
        Self::Ambiguous,
        Self::BlankKey,
        Self::Malformed,
    ];

    /// Whether a blank cell is on it too.
    pub(in crate::workbook) fn shows_blanks(self) -> bool {
        !matches!(self, Self::Plain | Self::Taken | Self::Changed)
    }

    /// The ground of a taken cell, by what became of its row.
    pub(in crate::workbook) fn of_outcome(outcome: RowOutcome) -> Self {
        match outcome {
            RowOutcome::Matched => Self::Taken,
            RowOutcome::Unmatched => Self::Unmatched,
            RowOutcome::Ambiguous => Self::Ambiguous,
            RowOutcome::BlankKey => Self::BlankKey,
            RowOutcome::Malformed => Self::Malformed,
        }
    }

    /// Its colour, and the pattern that it has with the colour of its lines. Those of rows without an answer differ by
    /// their pattern too, for whoever sees no colours.
    fn colours(self) -> Option<(u32, Option<Pattern>)> {
        let patterned = |pattern, name, lines, ground| Some((ground, Some((pattern, name, lines))));
        match self {
            Self::Plain => None,
            Self::Taken => Some((0x00FF_F4D6, None)),
            Self::Changed => Some((0x00FF_DF94, None)),
            Self::Unmatched => Some((0x00F4_C7C3, None)),
            Self::Ambiguous => {
                patterned(FormatPattern::LightUp, "lightUp", 0x00B0_90D0, 0x00EF_E6F7)
            }
            Self::BlankKey => {
                patterned(FormatPattern::Gray125, "gray125", 0x0070_98C0, 0x00E4_EEF8)
            }
            Self::Malformed => {
                patterned(FormatPattern::LightTrellis, "lightTrellis", 0x00C0_9050, 0x00FB_EFD9)
            }
        }
    }

    /// A style on this ground.
    pub(super) fn of(self, format: Format) -> Format {
        match self.colours() {
            None => format,
            Some((ground, None)) => format.set_background_color(Color::RGB(ground)),
            Some((ground, Some((pattern, _, lines)))) => {
                let format = format.set_pattern(pattern).set_foreground_color(Color::RGB(lines));
                format.set_background_color(Color::RGB(ground))
            }
        }
    }

    /// The element of a workbook's styles that fills a cell with it; `None` where nothing does.
    pub(in crate::workbook) fn fill(self) -> Option<String> {
        let (ground, pattern) = self.colours()?;
        let colours = match pattern {
            None => format!(
                "<patternFill patternType=\"solid\"><fgColor rgb=\"FF{ground:06X}\"/>\
                 <bgColor indexed=\"64\"/></patternFill>"
            ),
            Some((_, name, lines)) => format!(
                "<patternFill patternType=\"{name}\"><fgColor rgb=\"FF{lines:06X}\"/>\
                 <bgColor rgb=\"FF{ground:06X}\"/></patternFill>"
            ),
        };
        Some(format!("<fill>{colours}</fill>"))
    }
}

/// The shapes that a cell of any column may have, after the decimals.
#[derive(Debug, Clone, Copy)]
enum Shape {
    Text,
    Lines,
    TextLikeNumber,
    Date,
    DateTime,
    Time,
}

/// How many styles there are on each ground, before those of columns with number formats of their own.
const SHAPES: usize = MOST_DECIMALS + 2 + Shape::Time as usize;

/// The number formats of dates, of dates with times, and of spans of time.
const MOMENTS: [&str; 3] = ["yyyy-mm-dd", "yyyy-mm-dd hh:mm:ss", "[h]:mm:ss"];

/// How a cell looks, but for its ground: which of the number formats it has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(in crate::workbook) struct Look(usize);

/// The styles of a worksheet.
#[derive(Debug, Clone)]
pub(in crate::workbook) struct Styles {
    /// The codes of the columns' own number formats, each once.
    codes: Vec<String>,
    /// For each column its own code, and what that shows.
    columns: Vec<Option<(usize, Shows)>>,
    /// Whether numbers have an indent, which separates them from text in the next column.
    has_indent: bool,
    /// The numbers of all styles, in the order of [`Styles::formats`].
    numbers: Vec<usize>,
}

impl Styles {
    /// The styles of columns with number formats of their own.
    pub(in crate::workbook) fn new(formats: &[Option<String>], is_plain: bool) -> Self {
        let mut codes: Vec<String> = Vec::new();
        let columns = formats.iter().map(|code| {
            let code = code.as_ref()?;
            let place = codes.iter().position(|other| other == code).unwrap_or_else(|| {
                codes.push(code.clone());
                codes.len() - 1
            });
            Some((place, shows(code)))
        });
        let columns = columns.collect();
        Self { codes, columns, has_indent: !is_plain, numbers: Vec::new() }
    }

    /// All styles: those of headers, of text and of numbers, and then those of each ground.
    pub(super) fn formats(&self) -> Vec<Format> {
        let header = Format::new().set_bold().set_align(FormatAlign::Bottom);
        let mut all = vec![header.clone(), right(header)];
        for ground in Ground::ALL {
            let on = |format: Format| ground.of(format);
            let coded = |code: &str| on(Format::new().set_num_format(code));
            let number = |code: &str| {
                if self.has_indent { right(coded(code)) } else { coded(code) }
            };
            all.extend((0..=MOST_DECIMALS).map(|decimals| match decimals {
                0 => number("General"),
                decimals => number(&format!("0.{}", "0".repeat(decimals))),
            }));
            // In the order of their shapes.
            all.push(coded("General"));
            all.push(on(Format::new().set_text_wrap().set_align(FormatAlign::Top)));
            all.push(coded("@"));
            all.extend(MOMENTS.map(number));
            all.extend(self.codes.iter().map(|code| number(code)));
        }
        // A workbook with links has this style before all others.
        all.push(Format::new().set_hyperlink());
        all
    }

    /// Sets the numbers of all styles.
    pub(super) fn number(&mut self, numbers: Vec<usize>) {
        self.numbers = numbers;
    }

    /// The style of a number.
    pub(super) fn of_number(&self, number: usize) -> Option<Format> {
        let place = self.numbers.iter().position(|other| *other == number)?;
        self.formats().into_iter().nth(place)
    }

    /// The number of the style of a header, above numbers or above text.
    pub(super) fn of_header(&self, is_above_numbers: bool) -> usize {
        self.numbers.get(usize::from(is_above_numbers)).copied().unwrap_or_default()
    }

    /// The look of a cell of a column: which of the number formats it has.
    pub(in crate::workbook) fn look(&self, column: usize, shown: &Shown, text: &str) -> Look {
        let own = self.columns.get(column).copied().flatten();
        let fits = |wanted: Shows| own.filter(|(_, shows)| *shows == wanted).map(|(code, _)| code);
        let code = match shown {
            Shown::Number(_) => fits(Shows::Number),
            Shown::Date(_) | Shown::DateTime(_) => fits(Shows::Moment),
            Shown::Time(_) => fits(Shows::Span).or_else(|| fits(Shows::Moment)),
            Shown::Blank | Shown::Truth(_) | Shown::Text | Shown::LongNumber => None,
        };
        let shape = match (code, shown) {
            (Some(code), _) => return Look(SHAPES + code),
            (None, Shown::Number(decimals)) => return Look((*decimals).min(MOST_DECIMALS)),
            (None, Shown::Text) if text.contains('\n') => Shape::Lines,
            (None, Shown::Text) if looks_like_a_value(text) => Shape::TextLikeNumber,
            (None, Shown::Blank | Shown::Truth(_) | Shown::Text) => Shape::Text,
            (None, Shown::LongNumber) => Shape::TextLikeNumber,
            (None, Shown::Date(_)) => Shape::Date,
            (None, Shown::DateTime(_)) => Shape::DateTime,
            (None, Shown::Time(_)) => Shape::Time,
        };
        Look(MOST_DECIMALS + 1 + shape as usize)
    }

    /// The number of the style of a look on a ground.
    pub(super) fn of(&self, look: Look, ground: Ground) -> usize {
        let of_ground = SHAPES + self.codes.len();
        self.numbers.get(2 + ground as usize * of_ground + look.0).copied().unwrap_or_default()
    }

    /// The number format of a look; `None` for a text, which needs none.
    pub(in crate::workbook) fn code(&self, look: Look) -> Option<String> {
        const TEXTS: [usize; 2] = [Shape::Text as usize, Shape::Lines as usize];
        if let Some(code) = look.0.checked_sub(SHAPES) {
            return self.codes.get(code).cloned();
        }
        match look.0.checked_sub(MOST_DECIMALS + 1) {
            None if look.0 == 0 => Some("General".to_owned()),
            None => Some(format!("0.{}", "0".repeat(look.0))),
            Some(shape) if TEXTS.contains(&shape) => None,
            Some(shape) if shape == Shape::TextLikeNumber as usize => Some("@".to_owned()),
            Some(shape) => MOMENTS.get(shape - Shape::Date as usize).map(|&code| code.to_owned()),
        }
    }
}

/// A style aligned to the right, with an indent that separates it from text in the next column.
pub(super) fn right(format: Format) -> Format {
    format.set_align(FormatAlign::Right).set_indent(1)
}

/// Whether a spreadsheet could take a text for a number, a date or a formula once somebody edits it.
fn looks_like_a_value(text: &str) -> bool {
    let first = text.trim_start().as_bytes().first();
    first.is_some_and(|first| first.is_ascii_digit() || b"+-=.@$%(".contains(first))
        || ["true", "false"].iter().any(|word| text.eq_ignore_ascii_case(word))
}
