//! Typical mistakes: what the program answers, in the words of the call.

use super::scene::{Scene, snapshot};

/// The usual key of the registry.
const ON: &str = "--from hives.csv --on 'Apiary = Site code, Hive = Tag'";

/// Calls as people write them who have not yet read how; all but the last ones are wrong.
const MISTAKES: [&str; 67] = [
    // Tables.
    "enrich harvest.csv",
    "enrich harvest.csv hives.csv",
    "enrich harvest.csv hives.csv --on 'Apiary = Site code' --take Keeper",
    "enrich harvest.csv --on Hive --take Keeper",
    "enrich harvest.csv --on 'Apiary = Site code' --from hives.csv --take Keeper",
    "enrich hravest.csv ON --take Keeper",
    "enrich --take Keeper",
    "suggest harvest.csv",
    "suggest harvest.csv hives.csv price.csv",
    // Quotes and separators.
    "enrich harvest.csv --from hives.csv --on Apiary = 'Site code' --take Keeper",
    "enrich harvest.csv --from hives.csv --on Apiary=Site code --take Keeper",
    "enrich harvest.csv ON --take Keeper Line",
    "enrich harvest.csv --from hives.csv --on 'Apiary = Site code; Hive = Tag' --take Keeper",
    "enrich harvest.csv --from hives.csv --on 'Apiary Hive' --take Keeper",
    "enrich harvest.csv --from hives.csv --on 'Apiary & Hive = Site code & Tag' --take Keeper",
    "enrich harvest.csv ON --take 'Keeper; Line'",
    "enrich harvest.csv ON --take 'Keeper Line'",
    "enrich harvest.csv ON --take Keeper --columns 'Batch; Keeper'",
    "enrich harvest.csv --from hives.csv --on 'Apiary == Site code' --take Keeper",
    "enrich harvest.csv --from hives.csv --on 'Apiary = Site code = Tag' --take Keeper",
    "enrich harvest.csv ON --take 'Keeper = Name'",
    // Sides and places.
    "enrich harvest.csv --from hives.csv --on 'Site code = Apiary, Tag = Hive' --take Keeper",
    "enrich harvest.csv --from hives.csv --on '2 = 4' --take Keeper",
    "enrich harvest.csv --from hives.csv --on 'B = D' --take Keeper",
    "enrich harvest.csv --from hives.csv --on 'B2 = D2' --take Keeper",
    "enrich harvest.csv ON --take 2",
    "enrich harvest.csv ON --update Keeper",
    "enrich harvest.csv ON --take Keeper --columns 'Batch, Line'",
    // Steps.
    "enrich harvest.csv --from hives.csv --on 'Apiary | trimm = Site code' --take Keeper",
    "enrich harvest.csv --from hives.csv --on 'Hive | right 3 = Tag' --take Keeper",
    "enrich harvest.csv --from hives.csv --on 'Hive | mid 2 3 = Tag' --take Keeper",
    "enrich harvest.csv --from hives.csv --on 'Apiary | lowercase = Site code' --take Keeper",
    "enrich harvest.csv --from hives.csv --on 'Apiary | trim() = Site code' --take Keeper",
    "enrich harvest.csv --from hives.csv --on 'Hive | last = Tag' --take Keeper",
    "enrich harvest.csv ON --clean strip --take Keeper",
    // Rules and gates.
    "enrich harvest.csv ON --take Keeper --when-duplicate max",
    "enrich harvest.csv ON --take Keeper --when-duplicate 'latest Since'",
    "enrich harvest.csv ON --take Keeper --when-duplicate highest",
    "enrich harvest.csv ON --take Keeper --when-duplicate frist",
    "enrich harvest.csv ON --take Keeper --when-unmatched inner",
    "enrich harvest.csv ON --take Keeper --when-unmatched n/a",
    "enrich harvest.csv ON --take Keeper --require 'unmatched == 0'",
    "enrich harvest.csv ON --take Keeper --require 'missing = 0'",
    "enrich harvest.csv ON --take Keeper --require '0 unmatched'",
    "enrich harvest.csv ON --take Keeper --require 'unmatched < 5 percent'",
    "enrich harvest.csv ON --within 'Day >= Valid from' --take Keeper",
    // Options.
    "enrich harvest.csv --form hives.csv --on Hive --take Keeper",
    "survey hives.csv --lists found",
    "find hives.csv H-001 --take",
    "enrich harvest.csv ON --take Keeper -o a.csv -o b.csv",
    "enrich harvest.csv ON --take Keeper --when-duplicate first --when-duplicate last",
    "enrich harvest.csv ON --take Keeper --in-place -o out.csv",
    "enrich harvest.csv --from hives.csv --take Keeper",
    "enrich harvest.csv ON",
    "enrich harvest.csv ON --take Keeper -o harvest.csv",
    "enrich harvest.csv ON --take Keeper --threads 0",
    "enrich harvest.csv ON --take Keeper --progress sometimes",
    "why harvest.csv ON --row 1.000",
    "why harvest.csv ON --row 1,753",
    // A table that is split at the wrong character.
    "enrich semi.csv --delimiter , --from hives.csv --on 'Apiary = Site code' --take Keeper",
    // Keys.
    "key test hives.csv 'Site code/Tag'",
    "key make hives.csv 'Site code/Tag'",
    "key make hives.csv Site code",
    // Commands.
    "join harvest.csv hives.csv",
    "chek harvest.csv",
    "frobnicate",
    // A price of another day is none of this one.
    "check days.csv --from prices.csv --on 'Line, Day = Valid from' --take Price",
];

#[test]
fn mistakes_are_answered_in_the_words_of_the_call() {
    let scene = Scene::new()
        .with("semi.csv", "Batch;Apiary\nB1;Fellside\n")
        .with("days.csv", "Line,Day\nAmberline,2026-01-03\nDuskveil,2026-02-07\n")
        .with(
            "prices.csv",
            "Line,Valid from,Price\nAmberline,2026-01-01,5\nDuskveil,2026-01-01,6\n",
        );
    let before = scene.files();
    let mut said = String::new();
    for call in MISTAKES {
        let ran = scene.run(&call.replace("ON", ON));
        let is_last = call.starts_with("check days");
        assert_eq!(ran.status, if is_last { 0 } else { 2 }, "{call}: {}", ran.err);
        // A message has what is wrong and what to write, without the forms of the parser.
        assert!(!ran.err.contains("For more information") && !ran.err.contains("Usage:"), "{call}");
        let lines = ran.err.lines().chain(ran.out.lines());
        assert!(lines.clone().all(|line| line.chars().count() <= 80), "{call}: {}", ran.err);
        said += &format!("$ gather-keys {call}\n{}{}\n", ran.err, ran.out);
    }
    assert_eq!(scene.files(), before);
    snapshot("mistakes", &said);
}

/// What looks like a mistake and is none.
#[test]
fn some_mistakes_are_understood() {
    let scene = Scene::new();
    let key = scene.run("key test hives.csv 'Site code, Tag'").ended(0).out;
    assert_eq!(key, scene.run("key test hives.csv 'Site code' Tag").ended(0).out);
    scene.run(&format!("why harvest.csv {ON} --row 7")).ended(0);
    scene
        .run(
            "enrich harvest.csv --from hives.csv --on 'apiary=site code,hive=tag' --take keeper -q",
        )
        .ended(0);
}
