//! Taken cells that are passed through, and cells that can't be.

use super::memory::{Memory, enrichments_by, rows};
use gather_keys_core::Error;
use gather_keys_core::plan::{On, ReferencePlan, Take, WhenDuplicate, WhenUnmatched};
use gather_keys_core::table::{
    Block, OutputColumns, PassThrough, RawColumns, RawForm, RawRow, Renderer, Sink,
};

/// Keeps what is added to each row: a slice in brackets, cells in braces.
#[derive(Default)]
struct Told(Vec<String>);

impl Sink for Told {
    type Error = Error;
    type Renderer = Telling;

    fn write_headers(&mut self, _: &OutputColumns) -> Result<(), Error> {
        Ok(())
    }

    fn renderer(&self, _: &OutputColumns) -> Telling {
        Telling
    }

    fn write(&mut self, rendered: &mut Vec<String>) -> Result<(), Error> {
        self.0.append(rendered);
        Ok(())
    }
}

struct Telling;

impl Renderer for Telling {
    type Rendered = Vec<String>;

    fn render(&self, _: &Block, rows: &[usize], added: &Block, rendered: &mut Vec<String>) {
        *rendered = (0..rows.len()).map(|nth| cells(added, nth)).collect();
    }

    fn pass_through(&self) -> Option<(RawForm, &dyn PassThrough<Vec<String>>)> {
        Some((written()?, self))
    }
}

impl PassThrough<Vec<String>> for Telling {
    fn render_pass_through(
        &self,
        _: &Block,
        beside: &[RawColumns<'_>],
        rendered: &mut Vec<String>,
    ) {
        let all = beside.iter().map(|one| {
            let reported = one.rows().map(|added| match added {
                RawRow::Raw(cells) => {
                    let (text, length) = cells.all();
                    format!("[{}]", str::from_utf8(&text[..length]).unwrap())
                }
                RawRow::Cells(block, row) => cells(block, row),
            });
            reported.collect::<Vec<_>>()
        });
        let all: Vec<_> = all.collect();
        let row = |nth: usize| all.iter().map(|reported| &reported[nth][..]).collect::<String>();
        *rendered = (0..all[0].len()).map(row).collect();
    }
}

fn cells(block: &Block, row: usize) -> String {
    let cells: Vec<&str> = (0..block.columns()).map(|column| block.cell(row, column)).collect();
    format!("{{{}}}", cells.join(" "))
}

fn written() -> Option<RawForm> {
    RawForm::new(b',', *b",\"\r\n")
}

/// What is added to some hives of two references, which are kept in raw form.
fn added(change: impl Fn(&mut ReferencePlan), raw_form: Option<RawForm>) -> Vec<String> {
    let long =
        "so long a name that its length takes more than one character to be reported, or two";
    let hives = rows(&[
        &["A1", "Amberline", "4"],
        &["A2", "Dusk, veil", "5"],
        &["A3", long, "6"],
        &["A4", "Łąka", ""],
        &["A5", "Goldsedge", "7"],
        &["A5", "Goldsedge", "8"],
    ]);
    let main = ["A4", "A1", "", "A2", "A9", "A3", "A5", "A1"].map(|hive| vec![hive.to_owned()]);
    let main = Memory::new("harvest", &["Hive"], &main, 3);
    let mut plan = ReferencePlan {
        name: "hives".to_owned(),
        on: On::parse(&["Hive = Tag"]).unwrap(),
        take: Some(Take::parse("Line, Frames").unwrap()),
        ..ReferencePlan::default()
    };
    change(&mut plan);
    let other = ReferencePlan { take: Some(Take::parse("Frames").unwrap()), ..plan.clone() };
    let hives = || vec![Memory::new("hives", &["Tag", "Line", "Frames"], &hives, 4)];
    let plans = vec![(&plan, hives()), (&other, hives())];
    let mut made = enrichments_by(plans, &main, 1, |_, found, builder| {
        builder.raw_form(raw_form.filter(|_| found.passes_through(1)))
    });
    let mut reported = Told::default();
    made.as_mut().unwrap().run(&mut main.again(), &mut reported, None, 2).unwrap();
    reported.0.iter().map(|row| row.replace(long, "LONG")).collect()
}

#[test]
fn cells_go_out_as_they_stand_where_nothing_else_is_to_be_done() {
    let reported = added(|plan| plan.when_duplicate = WhenDuplicate::Last, written());
    let expected = [
        "[,Łąka,][,]",
        "[,Amberline,4][,4]",
        "[,,][,]",
        "{Dusk, veil 5}[,5]",
        "[,,][,]",
        "{LONG 6}[,6]",
        "[,Goldsedge,8][,8]",
        "[,Amberline,4][,4]",
    ];
    assert_eq!(reported, expected);
    let reported =
        added(|plan| plan.when_unmatched = WhenUnmatched::Fill("?".to_owned()), written());
    assert_eq!(reported[2], "[,,][,]");
    assert_eq!(reported[4..7], ["{? ?}{?}", "{LONG 6}[,6]", "[,,][,]"]);
}

#[test]
fn cells_are_brought_together_where_more_is_to_be_done() {
    let is_cells = |reported: Vec<String>| {
        assert_eq!(reported[0].replace(['{', '}'], "").trim_end(), "Łąka");
        reported.iter().all(|row| row.starts_with('{') && row.matches('{').count() == 1)
    };
    let no_change = |_: &mut ReferencePlan| {};
    assert!(is_cells(added(no_change, None)));
    assert!(is_cells(added(no_change, RawForm::new(b';', *b";\"\r\n"))));
    assert!(is_cells(added(|plan| plan.when_unmatched = WhenUnmatched::Drop, written())));
    assert!(is_cells(added(|plan| plan.when_duplicate = WhenDuplicate::Every, written())));
    assert!(is_cells(added(|plan| plan.when_duplicate = WhenDuplicate::List, written())));
    let marked = |plan: &mut ReferencePlan| {
        plan.take = Some(Take::parse("Line, Frames, @row").unwrap());
    };
    assert!(!added(marked, written()).iter().any(|row| row.contains('[')));
}

#[test]
fn cells_are_brought_together_where_a_key_is_made_of_them() {
    let main = Memory::new("harvest", &["Hive"], &rows(&[&["A1"], &["A2"], &["A1"]]), 2);
    let hives = rows(&[&["A1", "Amberline"], &["A2", "Duskveil"]]);
    let hives = Memory::new("hives", &["Tag", "Line"], &hives, 4);
    let lines = Memory::new("lines", &["Line", "Valley"], &rows(&[&["Duskveil", "Upper Wend"]]), 4);
    let plan = |name: &str, on: &str, take: &str| ReferencePlan {
        name: name.to_owned(),
        on: On::parse(&[on]).unwrap(),
        take: Some(Take::parse(take).unwrap()),
        ..ReferencePlan::default()
    };
    let plans = [plan("hives", "Hive = Tag", "Line"), plan("lines", "Line", "Valley")];
    let plans = plans.iter().zip([vec![hives], vec![lines]]).collect();
    let mut made = enrichments_by(plans, &main, 1, |_, found, builder| {
        builder.raw_form(written().filter(|_| found.passes_through(1)))
    });
    let mut reported = Told::default();
    made.as_mut().unwrap().run(&mut main.again(), &mut reported, None, 2).unwrap();
    assert_eq!(reported.0, ["{Amberline }", "{Duskveil Upper Wend}", "{Amberline }"]);
}
