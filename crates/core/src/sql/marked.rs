//! What a receipt notes of a run inside a database: the lowest marks of keys, and the sums of tables.
//!
//! Marks are digests of packed keys, as [`KeysSeen`](crate::receipt::KeysSeen) makes them; the server orders keys by the same
//! digests, so that only the lowest ones come here. The sum of a table does not depend on the order of its rows.

use super::Asking;
use super::answers::Answers;
use super::cell::Cell;
use super::cells_of;
use super::counts::overlapping;
use super::stage::Stage;
use super::words::joined;
use crate::receipt::MARKS;

/// The queries for the keys that a receipt has marks of: one more than it keeps, as the texts of their parts.
#[derive(Debug)]
pub struct MarkedKeys {
    /// The keys that no row of the reference answers.
    pub unmatched: String,
    /// The keys that several rows hold.
    pub duplicate: String,
}

/// How many bytes of a digest are the mark of a key.
const BYTES: usize = crate::receipt::MARK_BYTES;

impl MarkedKeys {
    pub(super) fn new(stage: &Stage, asking: &Asking<'_>, answers: &Answers) -> Self {
        let (rows, found) = (&answers.rows, asking.found);
        let asked: Vec<String> = if rows.by_value {
            let columns = found.main_key.parts().iter().map(|part| part.columns()[0]);
            let keys = answers.keys("a").into_iter().zip(columns);
            keys.map(|(sql, column)| Cell { sql, ..stage.cell(column).clone() }.text()).collect()
        } else {
            answers.asked.own_keys.iter().map(|key| format!("a.{key}")).collect()
        };
        let own = cells_of(asking.table, "t");
        let held = (1..=rows.parts).map(|part| {
            let sql = format!("d.key{part}");
            if !rows.by_value {
                return sql;
            }
            let column = found.reference_keys[0].parts()[part - 1].columns()[0];
            Cell { sql, ..own[column].clone() }.text()
        });
        let shared = if rows.has_range {
            format!("(\n{}\n) d", overlapping(asking, answers))
        } else {
            format!("{} d", rows.repeated)
        };
        let unmatched = format!("{} a where a.nth = 1 and a.status = 'unmatched'", answers.table());
        Self {
            unmatched: lowest(&asked, &unmatched),
            duplicate: lowest(&held.collect::<Vec<_>>(), &shared),
        }
    }
}

/// The query for the different keys of lowest mark among records.
fn lowest(parts: &[String], from: &str) -> String {
    let listed = parts.iter().zip(1..).map(|(part, at)| format!("{part} as k{at}"));
    let listed = if parts.is_empty() { "1 as one".to_owned() } else { joined(listed, ", ") };
    let names = joined((1..=parts.len()).map(|at| format!("k{at}")), ", ");
    let packed = joined((1..=parts.len()).map(|at| packed(&format!("k{at}"))), "\n        || ");
    let packed = if packed.is_empty() { "''::bytea".to_owned() } else { packed };
    format!(
        "select {names} from (select distinct {listed} from {from}) k\norder by substr(sha256({packed}), 1, {BYTES}) limit {}",
        MARKS + 1
    )
}

/// A text as it is packed: its length in bytes, six bits a byte, the lowest first, each but the last marked; then its bytes.
fn packed(text: &str) -> String {
    let length = format!("octet_length({text})");
    let of = |bytes: usize| {
        let start = format!("'\\x{}'::bytea", "00".repeat(bytes));
        (0..bytes).fold(start, |all, at| {
            let more = if at + 1 < bytes { 64 } else { 0 };
            format!("set_byte({all}, {at}, (({length} >> {}) & 63) | {more})", 6 * at)
        })
    };
    let cases =
        (1..=4).map(|bytes| format!("when {length} < {} then {}", 1_u32 << (6 * bytes), of(bytes)));
    format!("case {} else {} end || convert_to({text}, 'UTF8')", joined(cases, " "), of(5))
}

/// The query for the sum of a table by its name in statements: how many rows it has, how many bytes these have as texts, and a
/// digest that does not depend on their order.
pub fn sum_of(table: &str) -> String {
    let half = |from: usize| {
        format!("coalesce(sum(('x' || substr(digest, {from}, 16))::bit(64)::bigint::numeric), 0)")
    };
    format!(
        "select count(*), coalesce(sum(octet_length(text)), 0)::bigint, md5({}::text || ' ' || {}::text)\n\
         from (select text, md5(text) as digest from (select t::text as text from {table} t) r) r",
        half(1),
        half(17)
    )
}
