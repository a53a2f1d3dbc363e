//! The columns of lists: the keys of several references, each under its own headers.

use gather_keys_core::lookup::Lookup;
use gather_keys_core::plan::OnPart;
use gather_keys_core::table::Headers;

/// The union of columns that several references use of one list, each under one header.
#[derive(Debug, Default)]
pub(super) struct Columns {
    pub(super) headers: Vec<String>,
    /// For each reference, the places of its columns among the headers.
    places: Vec<Vec<usize>>,
}

impl Columns {
    pub(super) fn of(references: impl Iterator<Item = Vec<String>>) -> Self {
        let mut all = Self::default();
        for names in references {
            let place = |name: String| {
                all.headers.iter().position(|other| *other == name).unwrap_or_else(|| {
                    all.headers.push(name);
                    all.headers.len() - 1
                })
            };
            let places = names.into_iter().map(place).collect();
            all.places.push(places);
        }
        all
    }

    /// The cells of reference `nth`, each under its header; the others blank.
    pub(super) fn spread<'a>(
        &self,
        nth: usize,
        cells: impl Iterator<Item = &'a str>,
    ) -> impl Iterator<Item = &'a str> {
        let mut spread = vec![""; self.headers.len()];
        for (&place, cell) in self.places[nth].iter().zip(cells) {
            spread[place] = cell;
        }
        spread.into_iter()
    }
}

/// The headers of a main key in the lists: the columns it was read from, and where that is
/// something else the parts that were compared.
pub(super) fn main_names(headers: &Headers, lookup: &Lookup) -> Vec<String> {
    let read = lookup.columns().into_iter().map(|column| headers.address(column));
    let parts = lookup.key().parts().iter().zip(compared_otherwise(lookup));
    let parts = parts.filter(|(_, otherwise)| *otherwise);
    let parts = parts.map(|(part, _)| format!("{} (compared)", part.template()));
    read.chain(parts).collect()
}

/// The headers of a reference's key in the lists: likewise, and after them the range of the row
/// and the column that holds the value, where there are such.
pub(super) fn reference_names(lookup: &Lookup) -> Vec<String> {
    let reference = lookup.reference();
    let headers = reference.headers();
    let read = reference.key_columns().into_iter().map(|column| headers.address(column));
    let parts = reference.key().parts().iter().zip(lookup.on());
    let any = reference.searched().first();
    let parts = parts
        .filter(|(part, _)| part.template().as_header().is_none() || part.columns().first() == any);
    let parts = parts.map(|(part, on)| {
        let is_any = part.columns().first() == any;
        let any =
            || OnPart::parse(on).ok().and_then(|parts| Some(parts.first()?.reference.to_string()));
        let written = is_any.then(any).flatten();
        let written = written.unwrap_or_else(|| part.template().to_string());
        format!("{written} (compared)")
    });
    let range = lookup.range_value().map(|_| "range".to_owned());
    let column = any.map(|_| "column".to_owned());
    read.chain(parts).chain(range).chain(column).collect()
}

/// For each part of the main key, whether it is compared as something else than what was read.
pub(super) fn compared_otherwise(lookup: &Lookup) -> impl Iterator<Item = bool> {
    lookup.key().parts().iter().map(|part| part.template().as_header().is_none())
}
