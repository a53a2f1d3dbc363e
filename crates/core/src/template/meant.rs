//! What a person may have meant by a word that is none here: the nearest one, or ours for one that is known from formulas
//! and scripts.

/// A word from elsewhere, and ours for it.
pub(crate) type Elsewhere = (&'static str, &'static str);

/// The steps that other words stand for elsewhere.
pub(crate) const STEPS: &[Elsewhere] = &[
    ("right", "last N"),
    ("left", "first N"),
    ("mid", "from N to M"),
    ("substr", "from N to M"),
    ("substring", "from N to M"),
    ("slice", "from N to M"),
    ("strip", "trim"),
    ("clean", "tidy"),
    ("squeeze", "tidy"),
    ("lowercase", "lower"),
    ("lcase", "lower"),
    ("tolower", "lower"),
    ("uppercase", "upper"),
    ("ucase", "upper"),
    ("toupper", "upper"),
    ("proper", "fold"),
    ("casefold", "fold"),
    ("ignorecase", "fold"),
    ("unaccent", "plain"),
    ("ascii", "plain"),
    ("substitute", "replace \"REGEX\" \"TEXT\""),
    ("regex", "replace \"REGEX\" \"TEXT\""),
    ("sub", "replace \"REGEX\" \"TEXT\""),
    ("remove", "drop \"TEXT\""),
    ("delete", "drop \"TEXT\""),
    ("split", "piece N \"X\""),
    ("textbefore", "before \"X\""),
    ("textafter", "after \"X\""),
    ("value", "number"),
    ("int", "number"),
    ("float", "number"),
    ("numeric", "number"),
    ("tonumber", "number"),
    ("datevalue", "date"),
    ("todate", "date"),
    ("strptime", "date"),
    ("zfill", "pad N"),
    ("lpad", "pad N"),
    ("rjust", "pad N"),
    ("default", "or \"TEXT\""),
    ("coalesce", "or \"TEXT\""),
    ("ifblank", "or \"TEXT\""),
    ("concat", "a template, {A}-{B}"),
    ("concatenate", "a template, {A}-{B}"),
];

/// The rules for rows that disagree.
pub(crate) const WHEN_DUPLICATE: &[Elsewhere] = &[
    ("max", "highest HEADER"),
    ("maximum", "highest HEADER"),
    ("latest", "highest HEADER"),
    ("newest", "highest HEADER"),
    ("min", "lowest HEADER"),
    ("minimum", "lowest HEADER"),
    ("oldest", "lowest HEADER"),
    ("earliest", "lowest HEADER"),
    ("all", "every"),
    ("each", "every"),
    ("explode", "every"),
    ("concat", "list"),
    ("join", "list"),
    ("unique", "list"),
    ("distinct", "list"),
    ("any", "first"),
    ("error", "stop"),
    ("fail", "stop"),
    ("blank", "report"),
    ("skip", "report"),
    ("ignore", "report"),
    ("none", "report"),
];

/// The rules for rows without an answer.
pub(crate) const WHEN_UNMATCHED: &[Elsewhere] = &[
    ("keep", "blank"),
    ("left", "blank"),
    ("outer", "blank"),
    ("null", "blank"),
    ("none", "blank"),
    ("empty", "blank"),
    ("report", "blank"),
    ("inner", "drop"),
    ("skip", "drop"),
    ("remove", "drop"),
    ("delete", "drop"),
    ("anti", "only"),
    ("missing", "only"),
    ("error", "stop"),
    ("fail", "stop"),
];

/// How alike two words must be for one to be meant by the other.
const ALIKE: f64 = 0.76;

/// What is said of a word that is none of `ours`: which one it is near to, or what it is here.
pub(crate) fn meant(word: &str, ours: &[&str], elsewhere: &[Elsewhere]) -> Option<String> {
    let word = word.to_lowercase();
    if let Some((_, here)) = elsewhere.iter().find(|(there, _)| *there == word) {
        return Some(format!("what is `{word}` elsewhere is `{here}` here"));
    }
    let likeness = |one: &&&str| strsim::normalized_damerau_levenshtein(&word, one);
    let near = ours.iter().filter(|one| likeness(one) >= ALIKE);
    let near = near.max_by(|one, other| likeness(one).total_cmp(&likeness(other)))?;
    Some(format!("did you mean `{near}`?"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_lead_to_ours() {
        let ours = ["trim", "tidy", "lower", "last"];
        for (word, want) in [
            ("trimm", Some("did you mean `trim`?")),
            ("Lowr", Some("did you mean `lower`?")),
            ("RIGHT", Some("what is `right` elsewhere is `last N` here")),
            ("xyz", None),
        ] {
            assert_eq!(meant(word, &ours, STEPS).as_deref(), want, "{word}");
        }
        // A word that is ours is not one of others.
        for (there, _) in STEPS {
            assert!(crate::template::steps::ALL.iter().all(|kind| kind.name != *there), "{there}");
        }
    }
}
