//! What has moved from one receipt to the next.

use gather_keys_core::receipt::{File, Found, Input, KeysSeen, Moved, Receipt, digest, moved};

fn input(role: &str, path: &str, content: &str, rows: u64, headers: &[&str]) -> Input {
    Input {
        role: role.to_owned(),
        file: File {
            path: path.to_owned(),
            bytes: content.len() as u64,
            digest: digest(content.as_bytes()),
        },
        modified: None,
        rows,
        headers: headers.iter().map(|&header| header.to_owned()).collect(),
    }
}

fn seen(keys: &[&str]) -> KeysSeen {
    let mut seen = KeysSeen::default();
    for key in keys {
        seen.see([*key].into_iter());
    }
    seen
}

fn receipt(inputs: Vec<Input>, unmatched: &KeysSeen) -> Receipt {
    let mut receipt = Receipt::new("1", "plan");
    receipt.inputs = inputs;
    let duplicate = seen(&[]);
    let counts = gather_keys_core::findings::Counts::default();
    receipt.references = vec![Found::new(
        "hives",
        vec!["Keeper".to_owned()],
        &counts,
        unmatched.marks(),
        duplicate.marks(),
    )];
    receipt
}

/// What is reported of two runs, in short.
fn reported(before: &Receipt, now: &Receipt, unmatched: &KeysSeen) -> Vec<String> {
    // Between the runs it was written and read.
    let before = Receipt::read("run.json", &before.write()).unwrap();
    let all = moved(&before, now, &[(unmatched.clone(), seen(&[]))]);
    let short = |moved: &Moved| match moved {
        Moved::Columns { gone, new, .. } => format!("columns {gone:?} {new:?}"),
        Moved::Program { before } => format!("program {before}"),
        Moved::Plan => "plan".to_owned(),
        Moved::Table { role, path, is_new } => format!("{role} {path} {is_new}"),
        Moved::Path { before, now } => format!("{before} -> {now}"),
        Moved::Headers { gone, new, .. } => format!("-{} +{}", gone.join("-"), new.join("+")),
        Moved::Rows { before, now, .. } => format!("{before} {now} rows"),
        Moved::Cells { path } => format!("cells of {path}"),
        Moved::Keys { unmatched, new, .. } => format!("{unmatched} {}", new.first.join(" ")),
    };
    all.iter().map(short).collect()
}

#[test]
fn whatever_moved_is_told() {
    let main = || input("main", "m.csv", "m", 3, &["A", "B"]);
    let hives = |path, content, rows| input("hives", path, content, rows, &["K", "V"]);
    let keys = seen(&["x"]);
    let before = receipt(vec![main(), hives("h.csv", "h", 2)], &keys);
    let now = |inputs| receipt(inputs, &keys);
    for (inputs, want) in [
        (vec![main(), hives("h.csv", "h", 2)], vec![]),
        (vec![main(), hives("h.csv", "i", 2)], vec!["cells of h.csv"]),
        (vec![main(), hives("h.csv", "i", 5)], vec!["2 5 rows"]),
        (vec![main(), hives("old/h.csv", "h", 2)], vec!["h.csv -> old/h.csv"]),
        (vec![main(), hives("i.csv", "i", 2)], vec!["h.csv -> i.csv", "cells of i.csv"]),
        (vec![main()], vec!["hives h.csv false"]),
        (
            vec![main(), hives("h.csv", "h", 2), input("fixes", "f.csv", "f", 1, &["A"])],
            vec!["fixes f.csv true"],
        ),
        (vec![input("main", "m.csv", "n", 3, &["B", "A"]), hives("h.csv", "h", 2)], vec!["- +"]),
        (
            vec![input("main", "m.csv", "n", 4, &["A", "C"]), hives("h.csv", "h", 2)],
            vec!["-B +C", "3 4 rows"],
        ),
    ] {
        assert_eq!(reported(&before, &now(inputs), &keys), want);
    }
    // A pattern reads several tables for one reference.
    let two = receipt(vec![main(), hives("h-1.csv", "1", 1), hives("h-2.csv", "2", 1)], &keys);
    let three =
        vec![main(), hives("h-1.csv", "1", 1), hives("h-2.csv", "x", 2), hives("h-3.csv", "3", 1)];
    assert_eq!(reported(&two, &receipt(three, &keys), &keys), ["1 2 rows", "hives h-3.csv true"]);
    // Keys, the program and the plan.
    let more = seen(&["x", "y", "z"]);
    let mut after = receipt(vec![main(), hives("h.csv", "h", 2)], &more);
    assert_eq!(reported(&before, &after, &more), ["true y z"]);
    after.gather_keys = "2".to_owned();
    after.plan = digest(b"another");
    assert_eq!(reported(&before, &after, &keys), ["program 1", "plan"]);
}

/// Digests of different kinds are not compared.
#[test]
fn digests_are_compared_with_their_like() {
    let with = |digest: &str| {
        let mut main = input("main", "harvest", "a", 3, &["Hive"]);
        digest.clone_into(&mut main.file.digest);
        receipt(vec![main], &seen(&[]))
    };
    for (before, now, told) in [
        ("sha256:01", "sha256:02", &["cells of harvest"][..]),
        ("rows:01", "rows:02", &["cells of harvest"]),
        ("sha256:01", "rows:01", &[]),
        ("rows:01", "rows:01", &[]),
    ] {
        assert_eq!(reported(&with(before), &with(now), &seen(&[])), told, "{before} {now}");
    }
}

#[test]
fn what_is_no_receipt_is_refused() {
    let good = receipt(vec![input("main", "m.csv", "m", 3, &["A"])], &seen(&["x"])).write();
    for (text, said) in [
        ("", "EOF"),
        ("{}", "missing field"),
        (&good.replace("\"receipt\": 1", "\"receipt\": 9"), "it has the form 9"),
        (&good.replace("\"rows\": 3", "\"rows\": \"3\""), "invalid type"),
        (&good.replace("\"unmatched\": \"", "\"unmatched\": \"not hex "), "invalid digit"),
    ] {
        let error = Receipt::read("run.json", text).unwrap_err().to_string();
        assert!(
            error.starts_with("run.json can't be read as a receipt") && error.contains(said),
            "{error}"
        );
    }
    assert!(Receipt::read("run.json", &good).is_ok());
}
