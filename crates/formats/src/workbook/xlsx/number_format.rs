//! Number formats: how a worksheet shows its numbers, and which of them are dates or times.

/// The kind of value that a number format shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::workbook) enum Shows {
    Number,
    /// A date, a date-time or a time of day.
    Moment,
    /// A span of time, which may have more hours than a day.
    Span,
}

/// The code of a number format that workbooks do not write down, by its id.
pub(in crate::workbook) fn built_in(id: u32) -> Option<&'static str> {
    Some(match id {
        0 => "General",
        1 => "0",
        2 => "0.00",
        3 => "#,##0",
        4 => "#,##0.00",
        9 => "0%",
        10 => "0.00%",
        11 => "0.00E+00",
        12 => "# ?/?",
        13 => "# ??/??",
        14 => "mm-dd-yy",
        15 => "d-mmm-yy",
        16 => "d-mmm",
        17 => "mmm-yy",
        18 => "h:mm AM/PM",
        19 => "h:mm:ss AM/PM",
        20 => "h:mm",
        22 => "m/d/yy h:mm",
        // Dates and times in the notation of the reader's country.
        27..=31 | 36 | 50..=54 | 57 | 58 => "yyyy-mm-dd",
        21 | 32..=35 | 55 | 56 => "h:mm:ss",
        37 => "#,##0 ;(#,##0)",
        38 => "#,##0 ;[Red](#,##0)",
        39 => "#,##0.00;(#,##0.00)",
        40 => "#,##0.00;[Red](#,##0.00)",
        41 => "_(* #,##0_);_(* (#,##0);_(* \"-\"_);_(@_)",
        42 => "_($* #,##0_);_($* (#,##0);_($* \"-\"_);_(@_)",
        43 => "_(* #,##0.00_);_(* (#,##0.00);_(* \"-\"??_);_(@_)",
        44 => "_($* #,##0.00_);_($* (#,##0.00);_($* \"-\"??_);_(@_)",
        45 => "mm:ss",
        46 => "[h]:mm:ss",
        47 => "mmss.0",
        48 => "##0.0E+0",
        49 => "@",
        _ => return None,
    })
}

/// The kind of value that a number format shows, by its first section.
pub(in crate::workbook) fn shows(code: &str) -> Shows {
    let mut characters = code.chars();
    while let Some(character) = characters.next() {
        match character {
            // The next character is shown as it is, or is a width.
            '\\' | '_' | '*' => drop(characters.next()),
            '"' => drop(characters.by_ref().find(|end| *end == '"')),
            '[' => {
                let inner: String = characters.by_ref().take_while(|end| *end != ']').collect();
                let is_unit = |unit: char| "hHmMsS".contains(unit);
                if !inner.is_empty() && inner.chars().all(is_unit) {
                    return Shows::Span;
                }
            }
            ';' => break,
            'd' | 'm' | 'h' | 'y' | 's' | 'D' | 'M' | 'H' | 'Y' | 'S' => return Shows::Moment,
            _ => {}
        }
    }
    Shows::Number
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates_and_times_are_told_from_numbers() {
        for (code, want) in [
            ("General", Shows::Number),
            ("0.00", Shows::Number),
            ("dd/mm/yy", Shows::Moment),
            ("H:MM:SS;@", Shows::Moment),
            ("h AM/PM", Shows::Moment),
            ("#,##0\\ [$\u{20bd}-46D]", Shows::Number),
            ("m\"M\"d\"D\";@", Shows::Moment),
            ("[h]:mm:ss", Shows::Span),
            ("[Blue]\\+[h]:mm;[Red]\\-[h]:mm", Shows::Span),
            ("[>=100][Magenta][s].00", Shows::Span),
            ("[>=100][Magenta].00", Shows::Number),
            ("[$-404]e\"y\"m\"m\"d", Shows::Moment),
            ("\"Y: \"0.00\"m\";\"Y: \"-0.00\"m\"", Shows::Number),
            ("0_ ;[Red]\\-0\\ ", Shows::Number),
            ("\\Y000000", Shows::Number),
            ("#,##0.0####\" YMD\"", Shows::Number),
            ("#,##0*y", Shows::Number),
            ("*-yyyy-mm-dd", Shows::Moment),
            ("#,##0.00\\ _M\"H\"_)", Shows::Number),
            ("0.00E+00", Shows::Number),
            ("# ?/?", Shows::Number),
            ("@", Shows::Number),
            ("\"", Shows::Number),
            ("[", Shows::Number),
        ] {
            assert_eq!(shows(code), want, "{code}");
        }
        let moments: Vec<u32> = (0..60)
            .filter(|id| built_in(*id).is_some_and(|code| shows(code) == Shows::Moment))
            .collect();
        let want: Vec<u32> = (14..23).chain(27..37).chain([45, 47]).chain(50..59).collect();
        assert_eq!(moments, want);
    }
}
