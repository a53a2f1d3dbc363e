//! What the rows of the stage have of the answers of a lookup: how these are joined to them, and what is in them then.
//!
//! Of answers in a table a row is joined with its answer `a`; where the rows of the reference stay where they are, with one of
//! these, `e`, and with what is made of several rows that share its key, `a`.

use super::answers::Answers;
use super::cell::Cell;
use super::words::joined;
use crate::findings::Kind;

impl Answers {
    /// The name of the table that the output is joined with.
    pub(super) fn joined_table(&self) -> &str {
        if self.rows.in_place.is_some() { &self.rows.repeated } else { self.table() }
    }

    /// The name of a record of that table in statements.
    pub(super) fn alias(&self) -> String {
        format!("a{}", self.nth)
    }

    /// What joins the answers to the rows of the stage, among which may be new ones if `appends`.
    pub(super) fn joins(&self, appends: bool) -> String {
        let (alias, table, Self { nth, rows, asked, .. }) =
            (self.alias(), self.joined_table(), self);
        let Some(in_place) = &rows.in_place else {
            let is_found = asked.found_by.iter().enumerate();
            let is_found = is_found.map(|(at, sql)| format!("{alias}.c{} = {sql}", at + 1));
            let is_found = joined(is_found, " and ") + &self.is_here(appends);
            return format!("\n    left join {table} {alias} on {is_found}");
        };
        let found = format!("e{nth}");
        let is_same = |alias: &str| {
            let pairs = rows.keys(alias).into_iter().zip(&asked.part_cells);
            joined(pairs.map(|(theirs, ours)| format!("{theirs} = {ours}")), " and ")
        };
        let row = format!(
            "\n    left join {} {found} on {} and {}{}",
            rows.all,
            is_same(&found),
            rows.has_key(&found),
            self.is_here(appends)
        );
        if in_place.is_unique {
            return row;
        }
        let is_here = self.is_here(appends);
        format!("{row}\n    left join {table} {alias} on {}{is_here}", is_same(&alias))
    }

    /// The condition, after an `and`, under which a row asks this reference, and which of its answers is the row's: new rows of the
    /// reference have their own ones, and those of later ones do not ask it.
    fn is_here(&self, appends: bool) -> String {
        let (nth, alias) = (self.nth, self.alias());
        let own = if self.appends {
            format!(" and {alias}.app = case when m.app_of = {nth} then m.app else 0 end")
        } else {
            String::new()
        };
        if appends { format!("{own} and m.app_of <= {nth}") } else { own }
    }

    /// The condition under which a joined row is one of the enriched table, where several rows hold its key.
    pub(super) fn is_one(&self) -> Option<String> {
        self.rows.in_place.as_ref().filter(|in_place| !in_place.is_unique)?;
        let (alias, row) = (self.alias(), format!("e{}", self.nth));
        let pairs = self.rows.places(&alias).into_iter().zip(self.rows.places(&row));
        let is_first = joined(pairs.map(|(one, other)| format!("{one} = {other}")), " and ");
        Some(format!("({alias}.held is null or {is_first})"))
    }

    /// The condition under which a row is the first of several that the lookup makes of one.
    pub(super) fn is_first(&self) -> String {
        match self.rows.in_place {
            Some(_) => "true".to_owned(),
            None => format!("coalesce({}.nth, 1) = 1", self.alias()),
        }
    }

    /// Whether rows disagree that stay where they are; `None` where no two have the same key.
    fn disagree(&self) -> Option<String> {
        let in_place = self.rows.in_place.as_ref()?;
        (!in_place.is_unique).then(|| format!("{}.disagree", self.alias()))
    }

    /// The condition under which a row of the stage has an answer.
    pub(super) fn has_answer(&self) -> String {
        if self.rows.in_place.is_none() {
            let (matched, chosen) = (Kind::Matched.label(), Kind::Chosen.label());
            return format!("{} in ('{matched}', '{chosen}')", self.status());
        }
        let disagree = self.disagree();
        let agree = disagree.map_or(String::new(), |one| format!(" and {one} is not true"));
        format!("(e{}.key1 is not null{agree})", self.nth)
    }

    /// What became of a row of the stage; one without an answer in the table has a blank key.
    pub(super) fn status(&self) -> String {
        let blank = Kind::BlankKey.label();
        if self.rows.in_place.is_none() {
            return format!("coalesce({}.status, '{blank}')", self.alias());
        }
        let (matched, ambiguous) = (Kind::Matched.label(), Kind::Ambiguous.label());
        let found = match self.disagree() {
            Some(one) => format!("case when {one} then '{ambiguous}' else '{matched}' end"),
            None => format!("'{matched}'"),
        };
        format!(
            "case when e{}.key1 is not null then {found} when {} then '{blank}' else '{}' end",
            self.nth,
            self.asked.is_blank,
            Kind::Unmatched.label()
        )
    }

    /// How many rows of the reference hold the key of a row of the stage.
    pub(super) fn held(&self) -> String {
        let (alias, nth) = (self.alias(), self.nth);
        let Some(in_place) = &self.rows.in_place else { return format!("{alias}.held") };
        let several = if in_place.is_unique {
            String::new()
        } else {
            format!("when {alias}.held is not null then {alias}.held ")
        };
        format!(
            "case {several}when e{nth}.key1 is not null then 1::bigint when {} then null else 0 end",
            self.asked.is_blank
        )
    }

    /// The name and the number of the row of the reference that answers a row of the stage, as texts; null where it has none, or
    /// several answer.
    pub(super) fn giving_row(&self) -> [String; 2] {
        let alias = self.alias();
        match self.rows.in_place {
            Some(_) => [format!("e{}.name", self.nth), "null::text".to_owned()],
            None => [format!("{alias}.row_name"), format!("{alias}.row::text")],
        }
    }

    /// The taken cells of the answer to a row of the stage.
    pub(super) fn cells(&self) -> Vec<Cell> {
        let nth = self.nth;
        let cells = self.rows.taken.iter().zip(1..);
        let sql = |at: usize| match (&self.rows.in_place, self.disagree()) {
            (None, _) => format!("{}.cell{at}", self.alias()),
            (Some(_), None) => format!("e{nth}.cell{at}"),
            (Some(_), Some(one)) => format!("case when {one} then null else e{nth}.cell{at} end"),
        };
        cells.map(|(cell, at)| Cell { sql: sql(at), ..cell.clone() }).collect()
    }
}
