//! Labels: short names for the tables of a reference.

/// For each address the shortest end of its path that no other address has: mostly the name of the file. A
/// table of a server has no path, and keeps its address.
pub(super) fn labels(addresses: &[&str]) -> Vec<String> {
    let ends: Vec<Vec<&str>> = addresses.iter().map(|address| ends(address)).collect();
    let label = |(nth, own): (usize, &Vec<&str>)| {
        let is_alone = |end: &&&str| {
            let others = ends.iter().enumerate().filter(|(other, _)| *other != nth);
            !others.clone().any(|(_, ends)| ends.contains(*end))
        };
        own.iter().find(is_alone).or(own.last()).map_or(String::new(), |end| (*end).to_owned())
    };
    ends.iter().enumerate().map(label).collect()
}

/// The ends of an address, the shortest first.
fn ends(address: &str) -> Vec<&str> {
    if address.contains("://") {
        return vec![address];
    }
    let path = address.split('#').next().unwrap_or(address);
    let cuts = path.rmatch_indices(['/', '\\']).map(|(at, _)| &address[at + 1..]);
    cuts.chain([address]).filter(|end| !end.is_empty()).collect()
}

#[cfg(test)]
mod tests {
    use super::labels;

    #[test]
    fn labels_are_as_short_as_they_can_be() {
        for (addresses, want) in [
            (&["tables/hives.csv"][..], &["hives.csv"][..]),
            (&["/a/2025.csv", "/a/2026.csv"], &["2025.csv", "2026.csv"]),
            (
                &["north/hives.csv", "south/hives.csv", "x.csv"],
                &["north/hives.csv", "south/hives.csv", "x.csv"],
            ),
            (&["a/north/h.csv", "b/north/h.csv"], &["a/north/h.csv", "b/north/h.csv"]),
            (
                &["../co-op.xlsx#May/June", "../co-op.xlsx#July"],
                &["co-op.xlsx#May/June", "co-op.xlsx#July"],
            ),
            (&["same.csv", "same.csv"], &["same.csv", "same.csv"]),
            (&["postgres://edda@db/co-op#hives"], &["postgres://edda@db/co-op#hives"]),
            (&["standard input"], &["standard input"]),
        ] {
            assert_eq!(labels(addresses), want, "{addresses:?}");
        }
    }
}
