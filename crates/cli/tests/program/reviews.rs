//! `review`: questions at a terminal, and what their answers do.

use std::collections::BTreeMap;
use std::fs;

use super::scene::{Scene, snapshot};
use super::typist::Typist;

const BIG: (u16, u16) = (80, 24);

/// Hives, and a notebook with each kind of trouble that a person may settle.
fn notebook() -> Scene {
    let hives = "Site code,Tag,Keeper,Round\n\
                 Fellside,H-001,Edda,north\n\
                 Fellside,H-002,Edda,north\n\
                 Larkfield,H-001,Jorun,south\n\
                 Larkfield,H-002,Corvin,south\n\
                 Larkfield,H-002,Tamsin,south\n\
                 Old Quarry,H-007,Brenna,east\n";
    let notebook = "Apiary,Hive\n\
                    Larkfield,H-002\nLarkfield,H-002\nLarkfield,H-002\n\
                    Felside,H-001\nFelside,H-002\nFellside,H-001\n\
                    Old Quarry,smudged\n\
                    Larkfield,H-0O1\n\
                    Nowhere at all,H-444\n";
    Scene::empty().with("notebook.csv", notebook).with("hives.csv", hives)
}

const CALL: &str = "notebook.csv --from hives.csv \
                    --on 'Apiary = Site code, Hive | last 3 | number = Tag | last 3 | number' \
                    --take 'Keeper, Round'";

fn begin(scene: &Scene, more: &str, size: (u16, u16)) -> Typist {
    Typist::begin(scene, &format!("review {CALL}{more}"), size)
}

/// Every kind of question, each key, and undo across kinds of questions.
#[test]
fn keys_are_settled_one_by_one() {
    let scene = notebook();
    let mut typist = begin(&scene, "", BIG);
    let mut seen = vec![typist.sees("Question 1 of 5")];
    assert!(typist.has_own_screen());
    // Rows that disagree: the second counts.
    typist.types("2");
    seen.push(typist.sees("Question 2 of 5"));
    assert_eq!(
        scene.read("notebook-corrections.csv"),
        "Apiary,Hive,header,value,note\nLarkfield,H-002,Keeper,Tamsin,row 5 of hives\n\
         Larkfield,H-002,Round,south,row 5 of hives\n"
    );
    // A value that several keys share.
    assert_eq!(typist.underlined(), "lLarkfield");
    typist.types("y");
    seen.push(typist.sees("Question 3 of 5"));
    let aliases = "reference,Apiary,Hive,nearest Site code,nearest Tag,reason,distance,rows,approve\n\
                   hives,Felside,,Fellside,,not in the reference,,2,yes\n";
    assert_eq!(scene.read("notebook-aliases.csv"), aliases);
    // Both are taken back, and given again.
    typist.types("u");
    typist.sees("Question 2 of 5");
    assert!(!scene.path("notebook-aliases.csv").exists());
    typist.types("u");
    typist.sees("Question 1 of 5, 0 answered");
    assert!(!scene.path("notebook-corrections.csv").exists());
    typist.types("u");
    seen.push(typist.sees("There is no answer to take back."));
    typist.types("2");
    typist.sees("Question 2 of 5");
    typist.types("1");
    typist.sees("Question 3 of 5, 2 answered");
    assert_eq!(scene.read("notebook-aliases.csv"), aliases);
    // Nothing comes near, and a search finds others.
    typist.types("1");
    typist.sees("There is nothing to choose");
    typist.types("/larkf 7\r");
    typist.sees("Nothing with `larkf 7`");
    typist.types("/h-001 larkfield\r");
    seen.push(typist.sees("Found with `h-001 larkfield`"));
    typist.types("/");
    typist.sees("search for: _");
    typist.types("\u{1b}");
    typist.sees("1-9 choose");
    typist.types("?");
    seen.push(typist.sees("Any key goes back"));
    typist.types(" ");
    typist.sees("Which key is meant?");
    // None of them is remembered.
    typist.types("n");
    // What can't be read.
    seen.push(typist.sees("Question 4 of 5, 3 answered"));
    typist.types("9");
    typist.sees("There is one choice, 1");
    typist.types("s");
    seen.push(typist.sees("Question 5 of 5, 3 answered"));
    typist.types("1");
    let (status, written) = typist.ends();
    assert_eq!(status, 0);
    let (_, last) = written.rsplit_once("\u{1b}[?1049l").unwrap();
    seen.push(last.replace("\u{1b}[?25h", "").replace('\r', ""));
    let seen = seen.join("\n----\n");
    let lines: Vec<&str> = seen.lines().map(str::trim_end).collect();
    snapshot("review", &lines.join("\n"));
    assert_eq!(
        scene.read("notebook-aliases.csv"),
        format!(
            "{aliases}hives,Nowhere at all,H-444,,,nothing near,,1,no\n\
             hives,Larkfield,H-0O1,Larkfield,H-001,can't be read,,1,yes\n"
        )
    );
    // The next review asks only what was skipped.
    let mut typist = begin(&scene, " --plain-prompts", BIG);
    typist.reads("Question 1 of 1");
    typist.reads("Apiary: Old Quarry");
    typist.reads("q: ");
    typist.types("1\n");
    let (status, written) = typist.ends();
    assert_eq!(status, 0);
    assert!(written.contains("1 question settled, which brings 1 row; none left."), "{written}");
    // And the files do what was answered.
    let files = "--aliases notebook-aliases.csv --corrections notebook-corrections.csv";
    let ran = scene.run(&format!("enrich {CALL} {files}"));
    let want = "Apiary,Hive,Keeper,Round\n\
                Larkfield,H-002,Tamsin,south\nLarkfield,H-002,Tamsin,south\nLarkfield,H-002,Tamsin,south\n\
                Felside,H-001,Edda,north\nFelside,H-002,Edda,north\nFellside,H-001,Edda,north\n\
                Old Quarry,smudged,Brenna,east\nLarkfield,H-0O1,Jorun,south\nNowhere at all,H-444,,\n";
    assert_eq!(ran.ended(0).out, want);
}

/// What an answer gives rise to is asked next, and taking that answer back leads to its question again.
#[test]
fn an_answer_before_the_last_pass_is_taken_back() {
    let scene = notebook().with("notebook.csv", "Apiary,Hive\nLarkfield,H-0O2\n");
    let mut typist = begin(&scene, "", BIG);
    typist.sees("`number` can't read \"0O2\" in Hive.");
    typist.types("1");
    typist.sees("2 rows of hives have this key and differ in Keeper.");
    typist.types("u");
    typist.sees("`number` can't read \"0O2\" in Hive.");
    assert!(!scene.path("notebook-aliases.csv").exists());
    typist.types("1");
    typist.sees("2 rows of hives have this key and differ in Keeper.");
    typist.types("2");
    let (status, written) = typist.ends();
    assert_eq!(status, 0);
    assert!(written.contains("2 questions settled, which brings 2 rows"), "{written}");
    let corrections = scene.read("notebook-corrections.csv");
    assert!(corrections.contains("Larkfield,H-0O2,Keeper,Tamsin,"), "{corrections}");
}

/// The size of the terminal, and its ends.
#[test]
fn the_terminal_is_used_as_it_is() {
    let scene = notebook();
    let mut typist = begin(&scene, "", (60, 12));
    typist.sees("Question 1 of 5");
    // Narrow and low, then wide.
    typist.resizes((32, 10));
    let narrow = typist.sees("Which row");
    assert!(narrow.lines().all(|line| line.chars().count() <= 32), "{narrow}");
    typist.types(&"\u{1b}[B".repeat(9));
    typist.sees("2  Tamsin");
    typist.resizes((160, 50));
    typist.sees("1-9 choose  y first  n none  s skip  u undo  / search  ? help  q quit");
    // Ctrl-C ends it as q does, and the terminal is as it was.
    let (status, written) = typist.ends_by("\u{3}");
    assert_eq!(status, 0);
    assert!(written.contains("\u{1b}[?1049l") && written.contains("\u{1b}[?25h"), "{written}");
    assert!(written.contains("0 questions settled"), "{written}");
    // A signal gives the terminal back too.
    let mut typist = begin(&scene, "", BIG);
    typist.sees("Question 1 of 5");
    typist.types("1");
    typist.sees("Question 2 of 5");
    typist.signals("-HUP");
    let (status, written) = typist.ends();
    assert_eq!(status, 130);
    assert!(written.contains("\u{1b}[?1049l") && written.contains("\u{1b}[?25h"), "{written}");
    // Without a terminal there are no questions, nor with a table in place of the keys.
    let call = CALL.replace("notebook.csv", "-");
    let (status, written) = Typist::begin(&scene, &format!("review {call}"), BIG).ends();
    assert_eq!(status, 2);
    assert!(written.contains("questions need a terminal"), "{written}");
    let ran = scene.run(&format!("review {CALL}")).ended(2);
    snapshot("review-without-terminal", &ran.err);
}

/// Killed between two answers, only the last key press is lost.
#[test]
fn a_killed_review_loses_nothing() {
    let scene = notebook();
    let mut typist = begin(&scene, "", BIG);
    typist.sees("Question 1 of 5");
    typist.types("1");
    typist.sees("Question 2 of 5");
    typist.types("1");
    typist.sees("Question 3 of 5");
    typist.signals("-KILL");
    let corrections = scene.read("notebook-corrections.csv");
    assert_eq!(corrections.lines().count(), 3);
    assert_eq!(scene.read("notebook-aliases.csv").lines().count(), 2);
    drop(typist);
    let mut typist = begin(&scene, "", BIG);
    typist.sees("Question 1 of 3");
    typist.types("q");
    assert_eq!(typist.ends().0, 0);
    assert_eq!(scene.read("notebook-corrections.csv"), corrections);
}

/// The files that a call or a plan names get the answers, in the form they have; a plan that names none is completed.
#[test]
fn answers_go_to_the_files_that_are_named() {
    let own = "Hive;nearest Tag\r\nH-9;H-001\r\n";
    let settled = "Hive,header,value\nH-007,Keeper,Edda\n";
    let scene = notebook().with("own.csv", own).with("settled.csv", settled);
    let mut typist = begin(&scene, " --aliases own.csv --corrections settled.csv", BIG);
    typist.sees("Question 1 of 5");
    typist.types("1");
    typist.sees("Question 2 of 5");
    typist.types("1");
    typist.sees("Question 3 of 5");
    typist.types("n");
    typist.sees("Question 4 of 5");
    typist.types("q");
    let (_, written) = typist.ends();
    assert!(written.contains("--aliases own.csv --corrections settled.csv"), "{written}");
    assert_eq!(
        scene.read("settled.csv"),
        "Hive,Apiary,header,value\nH-007,*,Keeper,Edda\nH-002,Larkfield,Keeper,Corvin\n\
         H-002,Larkfield,Round,south\n"
    );
    assert_eq!(
        scene.read("own.csv"),
        "Hive;nearest Tag;Apiary;nearest Site code;approve\r\nH-9;H-001;;;yes\r\n\
         ;;Felside;Fellside;yes\r\nH-444;;Nowhere at all;;no\r\n"
    );

    let plan = "# Weekly\n[main]\ntable = \"notebook.csv\"\n\n[[reference]]\ntable = \"hives.csv\"\n\
                on = \"Apiary = Site code, Hive | last 3 | number = Tag | last 3 | number\"\n\
                take = \"Keeper, Round\"\n";
    let scene = notebook().with(
        "plans/weekly.toml",
        plan.replace("\"notebook", "\"../notebook").replace("\"hives", "\"../hives"),
    );
    let mut typist = Typist::begin(&scene, "review plans/weekly.toml --plain-prompts", BIG);
    typist.reads("q: ");
    typist.types("2\n");
    typist.reads("q: ");
    typist.types("1\n");
    typist.reads("q: ");
    typist.types("q\n");
    typist.reads("y or n: ");
    typist.types("y\n");
    let (status, written) = typist.ends();
    assert_eq!(status, 0);
    assert!(written.contains("gather-keys enrich plans/weekly.toml\r\n"), "{written}");
    let plan = scene.read("plans/weekly.toml");
    assert!(plan.contains("[[reference]]\naliases = \"weekly-aliases.csv\"\n"), "{plan}");
    assert!(plan.starts_with("corrections = \"weekly-corrections.csv\"\n\n# Weekly\n"), "{plan}");
    let ran = scene.run("enrich plans/weekly.toml").ended(0);
    assert!(ran.out.contains("Felside,H-002,Edda,north\n"), "{}", ran.out);
    assert!(ran.out.contains("Larkfield,H-002,Tamsin,south\n"), "{}", ran.out);

    // A file that can't be written back is refused at once.
    let mut book = rust_xlsxwriter::Workbook::new();
    book.add_worksheet()
        .write_row(0, 0, ["Apiary", "Hive", "nearest Site code", "nearest Tag"])
        .unwrap();
    let scene = notebook().with("own.xlsx", book.save_to_buffer().unwrap());
    let typist = begin(&scene, " --aliases own.xlsx", BIG);
    let (status, written) = typist.ends();
    assert_eq!(status, 2);
    assert!(written.contains("aliases are kept in delimited text"), "{written}");
}

/// The right answer to every question gives the table that is known.
#[test]
#[allow(clippy::too_many_lines)]
fn right_answers_give_the_right_table() {
    for seed in 0..6_u64 {
        let mut next = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) + 1;
        let mut chance = |of: usize| {
            next ^= next << 13;
            next ^= next >> 7;
            next ^= next << 17;
            (next % of as u64) as usize
        };
        let sites = ["Fellside", "Larkfield", "Old Quarry", "Nether Moor", "Mill Race"];
        let mut hives = String::from("Site,Tag,Keeper,Truth\n");
        let mut truth: BTreeMap<(usize, usize), String> = BTreeMap::new();
        for (site, site_name) in sites.iter().enumerate() {
            for tag in 1..8 {
                let word = format!("q{site}{tag}");
                hives.push_str(&format!("{site_name},H-{tag:03},Edda,{word}\n"));
                // Some are twice, and the second is right.
                if chance(9) == 0 {
                    let later = format!("{word}b");
                    hives.push_str(&format!("{site_name},H-{tag:03},Orla,{later}\n"));
                    truth.insert((site, tag), later);
                } else {
                    truth.insert((site, tag), word);
                }
            }
        }
        // One site has an old name that is nothing like its own.
        let (mut main, mut want) = (String::from("Apiary,Hive,Is\n"), String::new());
        for _ in 0..60 {
            let (site, tag) = (chance(sites.len()), 1 + chance(7));
            let name = match (site, chance(5)) {
                (4, _) => "The Old Weir".to_owned(),
                (_, 0) => sites[site].replacen('e', "", 1),
                _ => sites[site].to_owned(),
            };
            let tag_text = match chance(8) {
                0 => format!("H-{}0{tag}", "O"),
                1 => format!("no. {tag}?"),
                _ => format!("H-{tag:03}"),
            };
            let is = &truth[&(site, tag)];
            main.push_str(&format!("{name},{tag_text},{is}\n"));
            want.push_str(&format!("{name},{tag_text},{is},{is}\n"));
        }
        let scene = Scene::empty().with("main.csv", &main).with("hives.csv", &hives);
        let call = "main.csv --from hives.csv --on 'Apiary = Site' \
                    --on 'Hive | last 3 | number = Tag | last 3 | number' --take Truth";
        let is_of: BTreeMap<(&str, &str), &str> = main
            .lines()
            .skip(1)
            .map(|line| line.split(',').collect::<Vec<_>>())
            .map(|cells| ((cells[0], cells[1]), cells[2]))
            .collect();
        let mut typist =
            Typist::begin(&scene, &format!("review {call} --plain-prompts"), (200, 24));
        let mut asked = 0;
        loop {
            if !typist.reads_any(&["q: "]) {
                break;
            }
            let text = typist.taken();
            asked += 1;
            assert!(asked < 200, "seed {seed} asks without end: {text}");
            let text = text.replace(['[', ']'], "");
            let field = |name: &str| {
                let line = text.lines().rev().find_map(|line| line.strip_prefix(name));
                line.map(|cell| cell.trim_end().to_owned())
            };
            let (site, hive) = (field("Apiary: ").unwrap(), field("Hive: "));
            // What is right for the first main row with these cells.
            let mut rows = is_of.iter().filter(|((one, other), _)| {
                *one == site && hive.as_deref().is_none_or(|hive| hive == *other)
            });
            let right = rows.next().unwrap_or_else(|| panic!("{site:?} {hive:?} in\n{text}")).1;
            let digit: usize = right[1..2].parse().unwrap();
            let key = format!("Site {}; Tag H-00{};", sites[digit], &right[2..3]);
            let wanted = match &hive {
                Some(_) if text.contains("Which row counts?") => format!("Truth {right}"),
                Some(_) => key.clone(),
                None => format!("Site {};", sites[digit]),
            };
            // A line may be folded.
            let choices: Vec<&str> =
                text.lines().filter(|line| line.as_bytes().get(1) == Some(&b':')).collect();
            let found = choices.iter().find(|line| {
                format!("{};", line.trim_end().trim_end_matches(';'))
                    .contains(&format!("{};", wanted.trim_end_matches(';')))
            });
            match found {
                Some(line) => typist.types(&format!("{}\n", &line[..1])),
                None if hive.is_none() => typist.types(&format!("/{}\n", sites[digit])),
                None => typist.types(&format!("/{} H-00{}\n", sites[digit], &right[2..3])),
            }
        }
        let (status, _) = typist.ends();
        assert_eq!(status, 0);
        let files = ["main-aliases.csv", "main-corrections.csv"];
        let option = ["--aliases", "--corrections"];
        let mut call = format!("enrich {call}");
        for (file, option) in files.iter().zip(option) {
            if scene.path(file).exists() {
                call.push_str(&format!(" {option} {file}"));
            }
        }
        let ran = scene.run(&call).ended(0);
        assert_eq!(
            ran.out,
            format!("Apiary,Hive,Is,Truth\n{want}"),
            "seed {seed}\n{}",
            fs::read_to_string(scene.path("main-aliases.csv")).unwrap_or_default()
        );
    }
}
