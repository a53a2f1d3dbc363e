//! A random case: two tables and the options of an enrichment.

use std::fmt::Write;

/// The main table: a number of its own, two key columns, a value, a name of a column, and one to write into.
pub(super) const MAIN: [&str; 6] = ["Id", "A", "B", "V", "M", "Old"];
/// The reference: a rank, two key columns and one more of the same kind, two bounds, and taken columns.
pub(super) const REFERENCE: [&str; 8] = ["Rank", "a", "b", "c", "Lo", "Hi", "May", "June"];

pub(super) type Row = Vec<String>;

/// What is asked of the first key part: the text of either side, and how each reads a cell.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Steps {
    None,
    Tidy,
    Number,
    /// After a dash, on the main side only.
    After,
    Or,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Within {
    No,
    Both,
    OpenEnd,
    From,
    UpTo,
}

// Each switch is an option by itself.
#[allow(clippy::struct_excessive_bools)]
#[derive(Debug)]
pub(super) struct Case {
    pub(super) main: Vec<Row>,
    pub(super) reference: Vec<Row>,
    /// The reference is read from two files, cut here.
    pub(super) cut: usize,
    pub(super) steps: Steps,
    /// Whether the key has a second part.
    pub(super) two_parts: bool,
    /// Whether rows are matched by their position instead of a key.
    pub(super) position: bool,
    /// Whether the first part may be in column a or c.
    pub(super) any: bool,
    pub(super) within: Within,
    pub(super) rule: &'static str,
    pub(super) unmatched: &'static str,
    pub(super) match_blanks: bool,
    pub(super) blank_text: bool,
    pub(super) take: Vec<&'static str>,
    pub(super) update: bool,
    pub(super) replace_blanks: bool,
    pub(super) bring_blanks: bool,
    pub(super) append: bool,
    /// Corrections: an Id, a header and a value.
    pub(super) corrections: Vec<[String; 3]>,
    /// Whether all parts are tidied first.
    pub(super) clean: bool,
    /// How far off the closest row may be.
    pub(super) reach: Option<u32>,
    /// A key of the main table in columns A and B, and the key of the reference in a and b that it is an
    /// alias of.
    pub(super) alias: Option<[&'static str; 4]>,
    threads: u64,
    /// Whether the reference does not fit into memory.
    spills: bool,
}

/// A sequence of numbers that is the same for the same seed.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) % sides
    }

    fn one<T: Copy>(&mut self, of: &[T]) -> T {
        of[self.roll(of.len() as u64) as usize]
    }
}

impl Case {
    // One line for each option.
    #[allow(clippy::too_many_lines)]
    pub(super) fn random(nth: u64) -> Self {
        let mut dice = Dice(nth.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1);
        for _ in 0..8 {
            dice.roll(2);
        }
        let steps = dice.one(&[
            Steps::None,
            Steps::None,
            Steps::Tidy,
            Steps::Number,
            Steps::After,
            Steps::Or,
        ]);
        let keys: &[&str] = match steps {
            Steps::Number => &["7", "07", "7.0", "8", "", " ", "x", "NA"],
            Steps::After => &["x-1", "1", "x-2", "2", "-", "", "NA"],
            _ => &["a", "a", "A", " a ", "b", "", "  ", "NA", "c"],
        };
        let plain = ["a", "a", "b", "", "\u{a0}", "NA"];
        let main_row = |nth: u64, dice: &mut Dice| -> Row {
            let cells = [
                dice.one(keys),
                dice.one(&plain),
                dice.one(&["1", "2", "3", "4", "", " ", "x"]),
                dice.one(&["May", "June", "Juni", "", "may"]),
                dice.one(&["", " ", "m", "old", "=1"]),
            ];
            [nth.to_string()].into_iter().chain(cells.map(str::to_owned)).collect()
        };
        let reference_row = |dice: &mut Dice| -> Row {
            let bounds = ["1", "2", "3", "3", "4", "", "x"];
            let taken = ["m", "n", "", " ", "two, three"];
            let cells = [
                dice.one(&["1", "2", "3", "3", ""]),
                dice.one(keys),
                dice.one(&plain),
                dice.one(keys),
                dice.one(&bounds),
                dice.one(&bounds),
                dice.one(&taken),
                dice.one(&taken),
            ];
            cells.map(str::to_owned).to_vec()
        };
        let rows = dice.roll(7);
        let main: Vec<Row> = (1..=rows).map(|nth| main_row(nth, &mut dice)).collect();
        let rows = dice.roll(8);
        let reference: Vec<Row> = (0..rows).map(|_| reference_row(&mut dice)).collect();
        let any = dice.roll(4) == 0;
        let within = dice.one(&[
            Within::No,
            Within::No,
            Within::No,
            Within::Both,
            Within::OpenEnd,
            Within::From,
            Within::UpTo,
        ]);
        let mut take: Vec<&str> = Vec::new();
        for one in
            ["Rank", "May", "{M} as X", "@status", "@row", "@count", "@key", "@table", "@column"]
        {
            let fits = (one != "@column" || any) && (one != "{M} as X" || !any);
            if fits && dice.roll(3) == 0 {
                take.push(one);
            }
        }
        let update = dice.roll(3) == 0;
        let append = dice.roll(4) == 0 && !any && steps != Steps::After && within == Within::No;
        if take.is_empty() {
            take.push("May");
        }
        let corrections = if dice.roll(5) == 0 && !main.is_empty() {
            let header = dice.one(&["May", "Old", "V"]);
            let fits = header != "May" || take.contains(&"May");
            let id = dice.roll(main.len() as u64) + 1;
            let value = dice.one(&["m", "put right"]);
            fits.then(|| [id.to_string(), header.to_owned(), value.to_owned()])
                .into_iter()
                .collect()
        } else {
            Vec::new()
        };
        let two_parts = dice.roll(2) == 0;
        let closest = matches!(within, Within::From | Within::UpTo);
        let reach = (closest && dice.roll(2) == 0).then(|| dice.roll(3) as u32);
        let alias = (!any && dice.roll(3) == 0).then(|| {
            let aliased: &[&str] = if steps == Steps::Number { keys } else { &["c", "z", "x-2"] };
            [dice.one(aliased), dice.one(&plain), dice.one(keys), dice.one(&plain)]
        });
        let is_plain = steps == Steps::None && within == Within::No && !(any || append);
        let position = is_plain && alias.is_none() && dice.roll(4) == 0;
        Self {
            cut: dice.roll(reference.len() as u64 + 1) as usize,
            main,
            reference,
            steps,
            two_parts,
            position,
            any,
            within,
            rule: dice.one(&[
                "report",
                "first",
                "last",
                "every",
                "list",
                "highest Rank",
                "lowest Rank",
            ]),
            unmatched: dice.one(&["blank", "blank", "drop", "only", "fill none"]),
            match_blanks: dice.roll(3) == 0,
            blank_text: dice.roll(3) == 0,
            take,
            update,
            replace_blanks: dice.roll(2) == 0,
            bring_blanks: dice.roll(2) == 0,
            append,
            corrections,
            clean: dice.roll(4) == 0 && !position,
            reach,
            alias,
            threads: dice.roll(3) + 1,
            spills: dice.roll(2) == 0
                && !(position || any || append || alias.is_some() || within != Within::No),
        }
    }

    /// The call, word by word.
    pub(super) fn call(&self) -> Vec<String> {
        let (main, reference) = match self.steps {
            Steps::None => ("A", "a"),
            Steps::Tidy => ("A | tidy | fold", "a | tidy | fold"),
            Steps::Number => ("A | number", "a | number"),
            Steps::After => ("A | after \"-\"", "a"),
            Steps::Or => ("A | or \"a\"", "a | or \"a\""),
        };
        let reference = if self.any {
            let steps = reference
                .split_once(" | ")
                .map_or(String::new(), |(_, steps)| format!(" | {steps}"));
            format!("any(a, c){steps}")
        } else {
            reference.to_owned()
        };
        let mut on = format!("{main} = {reference}");
        if self.two_parts {
            on += ", B = b";
        }
        if self.position {
            "@row".clone_into(&mut on);
        }
        let mut words: Vec<String> = ["enrich", "main.csv"].map(str::to_owned).to_vec();
        let mut push = |some: &[&str]| words.extend(some.iter().map(|&word| word.to_owned()));
        if self.blank_text {
            push(&["--blank", "NA"]);
        }
        push(&["--from", "ref-*.csv", "--name", "r", "--on", &on]);
        if self.blank_text {
            push(&["--blank", "NA"]);
        }
        match self.within {
            Within::No => {}
            Within::Both => push(&["--within", "V in Lo .. Hi"]),
            Within::OpenEnd => push(&["--within", "V in Lo ..< Hi"]),
            Within::From => push(&["--within", "V in Lo .."]),
            Within::UpTo => push(&["--within", "V in .. Hi"]),
        }
        if let Some(reach) = self.reach {
            push(&["--reach", &reach.to_string()]);
        }
        if self.clean {
            push(&["--clean", "tidy"]);
        }
        if self.alias.is_some() {
            push(&["--aliases", "aliases.csv"]);
        }
        push(&["--when-duplicate", self.rule, "--when-unmatched", self.unmatched]);
        push(&["--take", &self.take.join(", ")]);
        if self.match_blanks {
            push(&["--match-blanks"]);
        }
        if self.update {
            push(&["--update", "Old = June"]);
            if self.replace_blanks {
                push(&["--replace", "blanks"]);
            }
            if self.bring_blanks {
                push(&["--bring-blanks"]);
            }
        }
        if self.append {
            push(&["--append-unused"]);
        }
        if !self.corrections.is_empty() {
            push(&["--corrections", "fixes.csv"]);
        }
        if self.spills {
            push(&["--memory", "1"]);
        }
        push(&["--report", "report.json", "--quiet", "--threads", &self.threads.to_string()]);
        words
    }

    /// The file of corrections.
    pub(super) fn fixes(&self) -> String {
        let rows: Vec<Row> = self.corrections.iter().map(|row| row.to_vec()).collect();
        csv(&["Id", "header", "value"], &rows)
    }

    /// The file of aliases.
    pub(super) fn aliases(&self) -> String {
        let row = |alias: [&str; 4]| alias.map(str::to_owned).to_vec();
        let rows: Vec<Row> = self.alias.into_iter().map(row).collect();
        csv(&["A", "B", "nearest a", "nearest b"], &rows)
    }

    pub(super) fn shown(&self) -> String {
        let mut text = String::new();
        let files = [(&MAIN[..], &self.main), (&REFERENCE[..], &self.reference)];
        for (headers, rows) in files {
            let _ = writeln!(text, "{}", csv(headers, rows));
        }
        text + &self.fixes() + &self.aliases()
    }
}

/// A call as it is typed.
pub(super) fn shown(call: &[String]) -> String {
    call.iter().map(|word| format!("'{word}'")).collect::<Vec<_>>().join(" ")
}

/// A table as delimited text.
pub(super) fn csv(headers: &[&str], rows: &[Row]) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    writer.write_record(headers).unwrap();
    for row in rows {
        writer.write_record(row).unwrap();
    }
    String::from_utf8(writer.into_inner().unwrap()).unwrap()
}
