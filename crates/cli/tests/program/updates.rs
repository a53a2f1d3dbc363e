//! Columns that are written into: what may be replaced, rows that are added, corrections, and the
//! main file itself.

use super::scene::{Scene, snapshot};

const KEEPERS: &str = "\
Id,Name,Round,Post to
K1,Aldis,\"north\",bee box 11
K2,\"Brenna, of Wend\",south,bee box 12
K3,Corvin,,bee box 13
K4,Edda,north,
";

const ROUNDS: &str = "\
Round,Id,Post to
north,K1,bee box 11
west,K2,
east,K3,bee box 31
south,K9,bee box 19
";

fn scene() -> Scene {
    Scene::empty().with("keepers.csv", KEEPERS).with("rounds.csv", ROUNDS)
}

const UPDATE: &str = "--from rounds.csv --on Id --update 'Round, Post to'";

/// What comes of a cell: `--replace`, whether `--bring-blanks`, the main cell, the reference's, and
/// the cell in the output.
pub(crate) const CHOICES: [(&str, bool, &str, &str, &str); 16] = [
    ("all", false, "", "", ""),
    ("all", false, "", "west", "west"),
    ("all", false, "north", "", "north"),
    ("all", false, "north", "west", "west"),
    ("all", true, "", "", ""),
    ("all", true, "", "west", "west"),
    ("all", true, "north", "", ""),
    ("all", true, "north", "west", "west"),
    ("blanks", false, "", "", ""),
    ("blanks", false, "", "west", "west"),
    ("blanks", false, "north", "", "north"),
    ("blanks", false, "north", "west", "north"),
    ("blanks", true, "", "", ""),
    ("blanks", true, "", "west", "west"),
    ("blanks", true, "north", "", "north"),
    ("blanks", true, "north", "west", "north"),
];

#[test]
fn each_choice_of_an_update_does_what_it_says() {
    for (replace, bring_blanks, main, reference, want) in CHOICES {
        let scene = Scene::empty()
            .with("m.csv", format!("Id,Round\nK1,{main}\n"))
            .with("r.csv", format!("Id,Round\nK1,{reference}\n"));
        let bring = if bring_blanks { "--bring-blanks" } else { "" };
        let call = format!(
            "enrich m.csv --from r.csv --on Id --update Round --replace {replace} {bring} \
             --take @status"
        );
        let ran = scene.run(&call).ended(0);
        let status = if main == want { "unchanged" } else { "updated" };
        assert_eq!(ran.out, format!("Id,Round,r status\nK1,{want},{status}\n"), "{call}");
    }
}

/// A template with headers and blank cells is filled from every column that both tables have.
#[test]
fn a_run_a_pattern_or_all_columns_are_those_that_both_tables_have() {
    let scene = Scene::empty()
        .with("m.csv", "No,Size a,Id,Note,Size b,Round,Size c\n9,,K1,mine,,,\n")
        .with("r.csv", "ROUND,Id,Size b,Size a,Post to\nwest,K1,2,1,box\n");
    for (options, want) in [
        ("--update '*'", "9,1,K1,mine,2,west,"),
        ("--update '*' --leave 'Size b'", "9,1,K1,mine,,west,"),
        ("--update 'Size *'", "9,1,K1,mine,2,,"),
        ("--update '*e *, Round'", "9,1,K1,mine,2,west,"),
        ("--update 'No .. Size b'", "9,1,K1,mine,2,,"),
        ("--update '*, Note = Size b'", "9,1,K1,2,2,west,"),
        ("--update 'Size b .. Size c' --take '*'", "9,,K1,mine,2,west,,1,box"),
        ("--update '*' --take '*'", "9,1,K1,mine,2,west,,box"),
        (
            "--update '*' --take @status --from r.csv --on Id --take 'ROUND, @row' --name r2",
            "9,1,K1,mine,2,west,,updated,west,1",
        ),
        ("--update '*' --take 'Size a as A'", "9,,K1,mine,2,west,,1"),
    ] {
        let ran = scene.run(&format!("enrich m.csv --from r.csv --on Id {options} -q")).ended(0);
        assert_eq!(ran.out.lines().nth(1), Some(want), "{options}");
    }
    let said =
        ["--update 'No*'", "--update '*' --leave '*'", "--update '*' --on 'Size a, Size b, Round'"]
            .map(|options| {
                let ran =
                    scene.run(&format!("enrich m.csv --from r.csv --on Id {options} -q")).ended(2);
                ran.err
            });
    snapshot("update-nothing-shared", &said.concat());
}

#[test]
fn cells_are_written_into_and_rows_added() {
    let scene = scene();
    let call = format!(
        "enrich keepers.csv {UPDATE} --append-unused --take @status --lists lists -o out.csv"
    );
    let ran = scene.run(&call).ended(0);
    let changes = scene.read("lists/changes.csv");
    snapshot("updates", &format!("{}\n{}\n{changes}", ran.err, scene.read("out.csv")));
    // Cells that are not replaced keep their quotes.
    assert!(scene.read("out.csv").contains("K1,Aldis,\"north\",bee box 11,"));
    let why = scene.run(&format!("why keepers.csv --row 2 {UPDATE}")).ended(0);
    assert!(why.out.contains("Round is \"south\" and becomes \"west\"."), "{}", why.out);
    assert!(why.out.contains("Post to stays \"bee box 12\""), "{}", why.out);
}

#[test]
fn a_file_without_a_last_line_end_takes_rows_behind_it() {
    let scene = scene().with("keepers.csv", KEEPERS.trim_end());
    let call = format!("enrich keepers.csv {UPDATE} --append-unused -q");
    let ran = scene.run(&call).ended(0);
    assert!(ran.out.ends_with("K4,Edda,north,\nK9,,south,bee box 19\n"), "{}", ran.out);
    let headers = Scene::empty().with("keepers.csv", "Id,Round").with("rounds.csv", ROUNDS);
    let call = "enrich keepers.csv --from rounds.csv --on Id --update Round --append-unused -q";
    let ran = headers.run(call).ended(0);
    assert_eq!(ran.out, "Id,Round\nK1,north\nK2,west\nK3,east\nK9,south\n");
    let every = Scene::empty().with("m.csv", "Id\na").with("r.csv", "Id,V\na,1\na,2\n");
    let call = "enrich m.csv --from r.csv --on Id --take V --when-duplicate every -q";
    assert_eq!(every.run(call).ended(0).out, "Id,V\na,1\na,2");
}

#[test]
fn the_main_file_itself_is_written_and_kept() {
    let scene = scene();
    let call = format!("enrich keepers.csv {UPDATE} --in-place");
    let ran = scene.run(&call).ended(0);
    assert!(scene.read("keepers.csv").contains("K3,Corvin,east,bee box 31"));
    let backups = || -> Vec<String> {
        let files = scene.files().into_keys();
        let names = files.map(|path| path.file_name().unwrap().to_str().unwrap().to_owned());
        names.filter(|name| name.contains("backup")).collect()
    };
    let [backup] = &backups()[..] else { panic!("{:?}", backups()) };
    assert_eq!(scene.read(backup), KEEPERS);
    assert!(ran.err.contains(&format!("The file as it was is kept as {backup}.")), "{}", ran.err);
    // There is nothing left to change, so that nothing is written.
    let ran = scene.run(&call).ended(0);
    assert!(ran.err.starts_with("keepers.csv stays as it is: nothing in it changes.\n"));
    assert_eq!(backups().len(), 1);
    // A gate that does not hold leaves it alone, unless it is to be written anyway.
    let scene = self::scene();
    let gated = format!("{call} --require 'unmatched = 0'");
    scene.run(&gated).ended(1);
    assert_eq!(scene.read("keepers.csv"), KEEPERS);
    let ran = scene.run(&format!("{gated} --write-anyway --no-backup")).ended(1);
    assert!(ran.err.contains("does not hold"));
    assert_ne!(scene.read("keepers.csv"), KEEPERS);
    assert_eq!(scene.files().len(), 2);
}

#[test]
fn corrections_come_last_and_are_told() {
    let scene = scene().with(
        "fixes.csv",
        "Id;header;value;note\nK2;Round;\"north; late\";she said so\nK1;Round;north;\nK7;Round;x;\n",
    );
    let call =
        format!("enrich keepers.csv {UPDATE} --take @status --corrections fixes.csv -o out.csv");
    let ran = scene.run(&call).ended(0);
    snapshot("corrections", &format!("{}\n{}", ran.err, scene.read("out.csv")));
    let scene = scene.with("fixes.csv", "Id,Round,value\nK2,x,y\n");
    let ran = scene.run(&format!("{call} --overwrite")).ended(2);
    assert!(ran.err.contains("fixes.csv is not a table of corrections"), "{}", ran.err);
    // A file that is not there is a slip of the pen; only kept changes make one.
    let call = format!("enrich keepers.csv {UPDATE} --corrections none.csv -q");
    let ran = scene.run(&call).ended(2);
    assert!(ran.err.starts_with("error: the file none.csv does not exist"), "{}", ran.err);
}
