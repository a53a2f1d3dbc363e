//! Letters without what is put around them.

use std::sync::Arc;

use unicode_normalization::UnicodeNormalization;

use super::{Done, Step, StepKind};

pub(super) static PLAIN: StepKind = StepKind {
    name: "plain",
    form: "plain",
    does: "turns accented, stroked, joined and wide letters into plain ones",
    examples: &[
        ("plain", "Łódź", Some("Lodz")),
        ("plain", "ﬁve Æpfel", Some("five AEpfel")),
        ("plain", "Ｈ－００７", Some("H-007")),
        ("plain", "Rhône №½", Some("Rhone No1⁄2")),
        ("plain", "かが", Some("かが")),
    ],
    read: |_| Ok(Arc::new(Plain)),
};

#[derive(Debug)]
struct Plain;

impl Step for Plain {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        if value.is_ascii() {
            return Done::whole(value);
        }
        let plain = value.chars().nfkd().filter(|&sign| !is_accent(sign)).flat_map(|letter| {
            let other = unstroked(letter);
            other.unwrap_or_default().chars().chain(other.is_none().then_some(letter))
        });
        // Scripts whose letters decompose in other ways are composed again.
        out.extend(plain.nfc());
        Done::Written
    }
}

/// Marks that are put on letters of any script; marks of a single script are left.
fn is_accent(sign: char) -> bool {
    matches!(sign,
        '\u{300}'..='\u{36f}' | '\u{1ab0}'..='\u{1aff}' | '\u{1dc0}'..='\u{1dff}'
        | '\u{20d0}'..='\u{20ff}' | '\u{fe20}'..='\u{fe2f}')
}

/// The plain letters for one that Unicode does not split.
fn unstroked(letter: char) -> Option<&'static str> {
    Some(match letter {
        'Ł' | 'Ƚ' | 'Ⱡ' => "L",
        'ł' | 'ƚ' | 'ⱡ' | 'ɫ' => "l",
        'Ø' | 'Ɵ' => "O",
        'ø' | 'ɵ' => "o",
        'Đ' | 'Ð' | 'Ɖ' => "D",
        'đ' | 'ð' | 'ɖ' => "d",
        'Ħ' | 'Ⱨ' => "H",
        'ħ' | 'ⱨ' => "h",
        'Ŧ' | 'Ⱦ' => "T",
        'ŧ' | 'ⱦ' => "t",
        'Ƀ' => "B",
        'ƀ' => "b",
        'Ȼ' | 'Ƈ' => "C",
        'ȼ' | 'ƈ' => "c",
        'Ǥ' => "G",
        'ǥ' => "g",
        'Ɨ' => "I",
        'ɨ' | 'ı' => "i",
        'Ɉ' => "J",
        'ɉ' | 'ȷ' => "j",
        'Ꝁ' => "K",
        'ꝁ' | 'ĸ' => "k",
        'Ŋ' => "N",
        'ŋ' => "n",
        'Ɍ' => "R",
        'ɍ' => "r",
        'Ʉ' => "U",
        'ʉ' => "u",
        'Ɏ' => "Y",
        'ɏ' => "y",
        'Ƶ' => "Z",
        'ƶ' => "z",
        'Æ' => "AE",
        'æ' => "ae",
        'Œ' => "OE",
        'œ' => "oe",
        'Þ' => "TH",
        'þ' => "th",
        'ẞ' => "SS",
        'ß' => "ss",
        _ => return None,
    })
}
