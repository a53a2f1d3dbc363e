//! A run as it was asked for: the tables with their options, read and checked for form. Nothing is
//! opened here; of names that stand for several files it is found out which these are.

use std::ffi::OsStr;

use gather_keys_core::findings::{Gate, Kind};
use gather_keys_core::plan::{
    On, Reach, ReferencePlan, Selection, Take, WhenDuplicate, WhenUnmatched, Within, parse_blanks,
};
use gather_keys_core::template::read_steps;
use gather_keys_formats::{Address, delimited::Dialect};

use crate::arguments::{TableArguments, Tables};
use crate::error::{Error, Result};

/// A table to be read.
#[derive(Debug)]
pub(crate) struct Table {
    pub(crate) address: Address,
    /// Files of the same headers that are read as one table with it.
    pub(crate) others: Vec<Address>,
    /// What it is called in messages when there are several.
    pub(crate) together: String,
    pub(crate) delimiter: Option<u8>,
    /// The texts that count as blank in its keys.
    pub(crate) blanks: Vec<String>,
}

impl Table {
    /// The table at an address, with nothing said of how to read it.
    pub(crate) fn new(address: &OsStr) -> Self {
        let address = Address::new(address);
        let together = address.to_string();
        Self { address, others: Vec::new(), together, delimiter: None, blanks: Vec::new() }
    }

    /// The tables that are like an address, as one.
    fn all(text: &OsStr) -> Result<(Self, String)> {
        let mut addresses = Address::all(text)?.into_iter();
        let mut table = Self::new(text);
        if let Some(first) = addresses.next() {
            table.address = first;
        }
        table.others = addresses.collect();
        let is_one = table.address == Address::new(text);
        let name = if is_one { table.address.stem() } else { Address::stem_of_all(text) };
        Ok((table, name))
    }

    /// Every file that it is read from.
    pub(crate) fn addresses(&self) -> impl Iterator<Item = &Address> {
        [&self.address].into_iter().chain(&self.others)
    }

    /// Sets the delimiter that a person named.
    pub(crate) fn set_delimiter(&mut self, value: String) -> Result<()> {
        let delimiter = Dialect::delimiter_of(&value);
        self.delimiter = Some(delimiter.ok_or(Error::BadDelimiter { value })?);
        Ok(())
    }
}

/// The tables of an enrichment, and what each reference is asked for.
#[derive(Debug)]
pub(crate) struct Call {
    pub(crate) main: Table,
    pub(crate) references: Vec<(Table, ReferencePlan)>,
    pub(crate) gates: Vec<Gate>,
}

/// Whether every reference has to say what is taken from it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum NeedsTake {
    Yes,
    No,
}

impl Call {
    /// Reads what was typed. `sorted` holds the options of the main table and of each reference.
    pub(crate) fn new(
        tables: &Tables,
        sorted: Vec<TableArguments>,
        require: &[String],
        needs_take: NeedsTake,
    ) -> Result<Self> {
        let mut sorted = sorted.into_iter();
        let main = Table::new(&tables.main);
        let (main, rest) = Options::read(main, sorted.next().unwrap_or_default())?;
        if let Some(option) = rest.first_of_a_reference() {
            return Err(Error::BeforeReference { option });
        }
        let mut references = Vec::new();
        for (address, typed) in tables.from.iter().zip(sorted) {
            references.push(Self::reference(address, typed, needs_take)?);
        }
        if references.is_empty() {
            return Err(Error::NoReference);
        }
        let names: Vec<String> = references.iter().map(|(_, plan)| plan.name.clone()).collect();
        if let Some((_, name)) = names.iter().enumerate().find(|(at, n)| names[..*at].contains(n)) {
            return Err(Error::SameName { name: name.clone() });
        }
        let standard = references.iter().map(|(table, _)| table).chain([&main]);
        if standard.filter(|table| table.address == Address::Standard).count() > 1 {
            return Err(Error::TwiceStandardInput);
        }
        let mut gates = Vec::new();
        for text in require {
            let gate = Gate::parse(text)?;
            gate.check_names(&names)?;
            gates.push(gate);
        }
        for (_, plan) in &references {
            if plan.when_duplicate == WhenDuplicate::Stop {
                gates.push(Gate::none(&plan.name, Kind::Ambiguous));
            }
            if plan.when_unmatched == WhenUnmatched::Stop {
                gates.push(Gate::none(&plan.name, Kind::Unmatched));
            }
        }
        Ok(Self { main, references, gates })
    }

    fn reference(
        address: &OsStr,
        typed: TableArguments,
        needs_take: NeedsTake,
    ) -> Result<(Table, ReferencePlan)> {
        let (table, name) = Table::all(address)?;
        let (table, options) = Options::read(table, typed)?;
        let needs = |option, example| Error::NeedsOption {
            reference: table.together.clone(),
            option,
            example,
        };
        if options.on.is_empty() && options.within.is_none() {
            return Err(needs("on", "such as --on 'Apiary = Site code'"));
        }
        let on = On::parse(&options.on)?;
        let within = options.within.as_deref().map(Within::parse).transpose()?;
        if within.is_some() && on == On::Position {
            let reference = table.together.clone();
            return Err(Error::RangeByPosition { reference });
        }
        let reach = options.reach.as_deref().map(Reach::parse).transpose()?;
        let clean = match &options.clean {
            Some(text) => read_steps("clean", text)?,
            None => Vec::new(),
        };
        let mut take = Vec::new();
        for text in &options.take {
            take.extend(Take::parse(text)?);
        }
        if take.is_empty() && needs_take == NeedsTake::Yes {
            return Err(needs("take", "such as --take 'Keeper, Queen line as Line'"));
        }
        let mut leave = Vec::new();
        for text in &options.leave {
            leave.extend(Selection::parse("leave", text)?);
        }
        let when_duplicate = options.when_duplicate.as_deref().map(WhenDuplicate::parse);
        let when_unmatched = options.when_unmatched.as_deref().map(WhenUnmatched::parse);
        let name = options.name.unwrap_or(name);
        let take = (!take.is_empty()).then_some(take);
        Ok((
            table,
            ReferencePlan {
                name,
                on,
                clean,
                within,
                reach,
                when_duplicate: when_duplicate.transpose()?.unwrap_or_default(),
                when_unmatched: when_unmatched.transpose()?.unwrap_or_default(),
                match_blanks: options.match_blanks,
                take,
                leave,
            },
        ))
    }

    /// Every input, for the check that no output is one of them.
    pub(crate) fn inputs(&self) -> impl Iterator<Item = &Address> {
        let references = self.references.iter().flat_map(|(table, _)| table.addresses());
        [&self.main.address].into_iter().chain(references)
    }
}

/// The options of one table, as texts.
#[derive(Debug, Default)]
struct Options {
    on: Vec<String>,
    clean: Option<String>,
    within: Option<String>,
    reach: Option<String>,
    take: Vec<String>,
    leave: Vec<String>,
    when_duplicate: Option<String>,
    when_unmatched: Option<String>,
    match_blanks: bool,
    name: Option<String>,
}

impl Options {
    fn read(mut table: Table, typed: TableArguments) -> Result<(Table, Self)> {
        let mut options = Self::default();
        for (option, value) in typed.options {
            match option {
                "on" => options.on.push(value),
                "take" => options.take.push(value),
                "name" if options.name.is_none() => options.name = Some(value),
                "leave" => options.leave.push(value),
                "when_duplicate" if options.when_duplicate.is_none() => {
                    options.when_duplicate = Some(value);
                }
                "when_unmatched" if options.when_unmatched.is_none() => {
                    options.when_unmatched = Some(value);
                }
                "match_blanks" => options.match_blanks = true,
                "within" if options.within.is_none() => options.within = Some(value),
                "reach" if options.reach.is_none() => options.reach = Some(value),
                "clean" if options.clean.is_none() => options.clean = Some(value),
                "delimiter" if table.delimiter.is_none() => table.set_delimiter(value)?,
                "blank" => table.blanks.extend(parse_blanks(&value)?),
                _ => return Err(Error::Twice { option, value }),
            }
        }
        Ok((table, options))
    }

    /// An option that only a reference can have.
    fn first_of_a_reference(&self) -> Option<&'static str> {
        let given = [
            ("on", !self.on.is_empty()),
            ("clean", self.clean.is_some()),
            ("within", self.within.is_some()),
            ("reach", self.reach.is_some()),
            ("take", !self.take.is_empty()),
            ("leave", !self.leave.is_empty()),
            ("when-duplicate", self.when_duplicate.is_some()),
            ("when-unmatched", self.when_unmatched.is_some()),
            ("match-blanks", self.match_blanks),
            ("name", self.name.is_some()),
        ];
        given.into_iter().find(|(_, given)| *given).map(|(option, _)| option)
    }
}
