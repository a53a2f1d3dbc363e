//! The styles of cells: a number format on a ground, and the number that a worksheet writes for it.
//!
//! The library that writes styles numbers them. [`Styles`] makes the same ones in the same order for each workbook, so
//! that the numbers of a first workbook, which holds nothing else, are those of the last.

use gather_keys_core::table::RowOutcome;
use rust_xlsxwriter::{Color, Format, FormatAlign, FormatPattern};

use crate::workbook::shown::Shown;
use crate::workbook::xlsx::number_format::{Shows, shows};

const TAKEN: Color = Color::RGB(0x00FF_F4D6);
const CHANGED: Color = Color::RGB(0x00FF_DF94);
const UNMATCHED: Color = Color::RGB(0x00F4_C7C3);

/// How many decimals a number is shown with at most.
const MOST_DECIMALS: usize = 15;

/// The grounds that cells are on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Ground {
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
    pub(super) fn shows_blanks(self) -> bool {
        !matches!(self, Self::Plain | Self::Taken | Self::Changed)
    }

    /// The ground of a taken cell, by what became of its row.
    pub(super) fn of_outcome(outcome: RowOutcome) -> Self {
        match outcome {
            RowOutcome::Matched => Self::Taken,
            RowOutcome::Unmatched => Self::Unmatched,
            RowOutcome::Ambiguous => Self::Ambiguous,
            RowOutcome::BlankKey => Self::BlankKey,
            RowOutcome::Malformed => Self::Malformed,
        }
    }

    /// A style on this ground. Those of rows without an answer differ by their pattern too, for whoever sees no colours.
    pub(super) fn of(self, format: Format) -> Format {
        let patterned = |pattern: FormatPattern, lines: u32, ground: u32| {
            let format = format.clone().set_pattern(pattern);
            format.set_foreground_color(Color::RGB(lines)).set_background_color(Color::RGB(ground))
        };
        match self {
            Self::Plain => format,
            Self::Taken => format.set_background_color(TAKEN),
            Self::Changed => format.set_background_color(CHANGED),
            Self::Unmatched => format.set_background_color(UNMATCHED),
            Self::Ambiguous => patterned(FormatPattern::LightUp, 0x00B0_90D0, 0x00EF_E6F7),
            Self::BlankKey => patterned(FormatPattern::Gray125, 0x0070_98C0, 0x00E4_EEF8),
            Self::Malformed => patterned(FormatPattern::LightTrellis, 0x00C0_9050, 0x00FB_EFD9),
        }
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

/// The styles of a worksheet.
#[derive(Debug, Clone)]
pub(super) struct Styles {
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
    pub(super) fn new(formats: &[Option<String>], is_plain: bool) -> Self {
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
            all.extend(["yyyy-mm-dd", "yyyy-mm-dd hh:mm:ss", "[h]:mm:ss"].map(number));
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

    /// Whether these are the numbers of all styles.
    pub(super) fn are_numbered(&self, numbers: &[usize]) -> bool {
        self.numbers == numbers
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

    /// The number of the style of a cell of a column.
    pub(super) fn of_cell(&self, column: usize, shown: &Shown, ground: Ground) -> usize {
        let own = self.columns.get(column).copied().flatten();
        let fits = |wanted: Shows| own.filter(|(_, shows)| *shows == wanted).map(|(code, _)| code);
        let code = match shown {
            Shown::Number(_) => fits(Shows::Number),
            Shown::Date(_) | Shown::DateTime(_) => fits(Shows::Moment),
            Shown::Time(_) => fits(Shows::Span).or_else(|| fits(Shows::Moment)),
            Shown::Blank | Shown::Truth(_) | Shown::Text | Shown::LongNumber => None,
        };
        let shape = match (code, shown) {
            (Some(code), _) => return self.numbered(SHAPES + code, ground),
            (None, Shown::Number(decimals)) => {
                return self.numbered((*decimals).min(MOST_DECIMALS), ground);
            }
            (None, Shown::Blank | Shown::Truth(_) | Shown::Text) => Shape::Text,
            (None, Shown::LongNumber) => Shape::TextLikeNumber,
            (None, Shown::Date(_)) => Shape::Date,
            (None, Shown::DateTime(_)) => Shape::DateTime,
            (None, Shown::Time(_)) => Shape::Time,
        };
        self.shaped(shape, ground)
    }

    /// The number of the style of a text that has several lines, or looks like something else.
    pub(super) fn of_text(&self, text: &str, ground: Ground) -> usize {
        let shape = if text.contains('\n') {
            Shape::Lines
        } else if looks_like_a_value(text) {
            Shape::TextLikeNumber
        } else {
            Shape::Text
        };
        self.shaped(shape, ground)
    }

    /// The number of the style of a shape that any column may have.
    fn shaped(&self, shape: Shape, ground: Ground) -> usize {
        self.numbered(MOST_DECIMALS + 1 + shape as usize, ground)
    }

    fn numbered(&self, shape: usize, ground: Ground) -> usize {
        let of_ground = SHAPES + self.codes.len();
        self.numbers.get(2 + ground as usize * of_ground + shape).copied().unwrap_or_default()
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
