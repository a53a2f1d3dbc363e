//! The findings of reference rows, and the rows that are appended.

use std::collections::HashMap;

use super::super::case::{MAIN, Row, Steps};
use super::{Givers, Naive, Value, is_blank};

/// Counts the keys of several reference rows, and the keys that several main rows ask for.
pub(super) fn shared_keys(
    naive: &Naive<'_>,
    asked: &HashMap<Vec<Value>, u64>,
    counts: &mut HashMap<&'static str, u64>,
) {
    let rows = &naive.0.reference;
    let mut seen: Vec<Vec<Value>> = Vec::new();
    let (mut duplicate, mut conflicting, mut collapsed) = (0, 0, 0);
    for row in rows {
        let key = naive.key(row, false, 1);
        if !naive.is_whole(&key) || seen.contains(&key) {
            continue;
        }
        let held = naive.entries(&key);
        if held.len() > 1 {
            let taken = naive.taken(None);
            let agree = held.iter().all(|(other, _)| naive.agree(&held, held[0].0, *other, &taken));
            if agree {
                duplicate += 1;
            } else {
                conflicting += 1;
            }
            let spelled = |row: usize| -> Vec<&String> {
                let mut cells = vec![&rows[row][1]];
                if naive.0.two_parts {
                    cells.push(&rows[row][2]);
                }
                cells
            };
            // Without steps a key is spelled as it is compared.
            let has_steps = naive.0.clean || !matches!(naive.0.steps, Steps::None | Steps::After);
            collapsed += u64::from(
                has_steps && held.iter().any(|(row, _)| spelled(*row) != spelled(held[0].0)),
            );
        }
        seen.push(key);
    }
    counts.insert("duplicate", duplicate);
    counts.insert("conflicting", conflicting);
    if !naive.0.blank_text && !naive.0.match_blanks {
        counts.insert("collapsed", collapsed);
    }
    counts.insert("repeated", asked.values().filter(|count| **count > 1).count() as u64);
}

/// Adds the rows that nobody asked for.
pub(super) fn append(naive: &Naive<'_>, used: &[bool], rows: &mut Vec<Row>) {
    let case = naive.0;
    for (nth, reference) in case.reference.iter().enumerate() {
        let key = naive.key(reference, false, 1);
        if used[nth] || !naive.is_whole(&key) {
            continue;
        }
        let held = naive.entries(&key);
        let taken = naive.taken(None);
        let (settled, _) = naive.settle(&held, &taken);
        let Some(settled) = settled else { continue };
        let givers: Vec<Givers> = if case.rule == "every" {
            vec![vec![nth]]
        } else if held[0].0 == nth {
            settled
        } else {
            continue;
        };
        for givers in givers {
            // The key is spelled as the row that it is taken from spells it.
            let speller = &case.reference[givers[0]];
            let mut main: Row = vec![String::new(); MAIN.len()];
            let spelled = |cell: &String| if is_blank(cell) { String::new() } else { cell.clone() };
            main[1] = spelled(&speller[1]);
            if case.two_parts {
                main[2] = spelled(&speller[2]);
            }
            let count = Some(held.len());
            rows.push(naive.give(&main, (&givers, &held), ("appended", count), None));
        }
    }
}
