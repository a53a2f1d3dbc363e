//! The fuzz targets, each run on a fixed number of inputs.

use proptest::prelude::*;

#[path = "../../../../fuzz/src/delimited.rs"]
mod delimited;
#[path = "../../../../fuzz/src/templates.rs"]
mod templates;

/// The tokens that the fuzzer's dictionary has.
fn tokens() -> Vec<String> {
    let dictionary = include_str!("../../../../fuzz/templates.dict");
    let quoted = dictionary.lines().filter_map(|line| line.trim().strip_prefix('"'));
    let tokens = quoted.filter_map(|line| line.strip_suffix('"'));
    tokens.map(|token| token.replace("\\\"", "\"").replace("\\\\", "\\")).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4000))]

    #[test]
    fn delimited_text_is_read_alike(
        head in any::<[u8; 2]>(),
        text in prop::collection::vec(
            prop_oneof![
                6 => prop::sample::select(b",;\t|a\"\n\r b1".to_vec()),
                1 => any::<u8>(),
            ],
            0..200,
        ),
    ) {
        delimited::run(&[&head[..], &text[..]].concat());
    }

    #[test]
    fn no_text_makes_a_parser_panic(
        text in prop::collection::vec(
            prop_oneof![
                8 => prop::sample::select(tokens()),
                1 => any::<char>().prop_map(String::from),
            ],
            0..20,
        ),
        value in ".{0,24}",
    ) {
        templates::run(&format!("{}\n{value}", text.concat()));
    }
}
