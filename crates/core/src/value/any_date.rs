//! Dates in any usual form: the dates that a value may mean when no format is given.

use jiff::civil::Date;

/// Whether a value has the form of a date in ISO 8601.
pub(crate) fn is_iso(value: &str) -> bool {
    let bytes = value.as_bytes();
    bytes.len() == 10 && bytes[4] == b'-' && bytes[7] == b'-'
}

/// The dates that a value may be: as numbers in any usual order, with the month as a word, or as the
/// day number of a workbook.
pub(crate) fn dates_of(value: &str) -> [Option<Date>; 2] {
    let text = value.trim();
    let none = [None, None];
    if !(5..=30).contains(&text.len()) || !text.is_ascii() {
        return none;
    }
    if text.bytes().all(|byte| byte.is_ascii_digit()) {
        let number = text.parse::<i32>().unwrap_or_default();
        return match text.len() {
            // Days of the years from 1954 to 2064.
            5 if (20_000..60_000).contains(&number) => {
                [super::date::day_of_serial(number.into(), super::date::Epoch::Of1900), None]
            }
            8 => [day(number / 10_000, number / 100 % 100, number % 100), None],
            _ => none,
        };
    }
    let bytes = text.as_bytes();
    if bytes.get(10).is_none_or(|joint| *joint == b'T') && bytes.len() >= 10 && is_iso(&text[..10])
    {
        let number = |text: &str| text.parse().unwrap_or_default();
        return [day(number(&text[..4]), number(&text[5..7]), number(&text[8..10])), None];
    }
    let mut words = [""; 3];
    let mut count = 0;
    for word in text.split(['-', '/', '.', ' ', ',']).filter(|word| !word.is_empty()) {
        if count == 3 {
            // A time may follow a date.
            if word.contains(':') {
                break;
            }
            return none;
        }
        words[count] = word.split('T').next().unwrap_or(word);
        count += 1;
    }
    if count != 3 {
        return none;
    }
    let number = |nth: usize| words[nth].parse::<i32>().ok();
    let long = |year: i32| if (0..70).contains(&year) { year + 2000 } else { year };
    match (number(0), number(1), number(2)) {
        (Some(year), Some(month), Some(date)) if words[0].len() == 4 => {
            [day(year, month, date), None]
        }
        (Some(one), Some(other), Some(year)) if words[2].len() == 4 || words[2].len() == 2 => {
            [day(long(year), other, one), day(long(year), one, other)]
        }
        (Some(date), None, Some(year)) => [day(long(year), month_of(words[1]), date), None],
        (None, Some(date), Some(year)) => [day(long(year), month_of(words[0]), date), None],
        _ => none,
    }
}

fn day(year: i32, month: i32, day: i32) -> Option<Date> {
    Date::new(
        i16::try_from(year).ok().filter(|year| *year >= 1000)?,
        i8::try_from(month).ok()?,
        i8::try_from(day).ok()?,
    )
    .ok()
}

/// The month that a word names, or 0.
fn month_of(word: &str) -> i32 {
    const MONTHS: [&str; 12] =
        ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
    let start = word.get(..3).unwrap_or_default().to_ascii_lowercase();
    (1..).zip(MONTHS).find(|(_, month)| *month == start).map_or(0, |(at, _)| at)
}
