//! The password for a server, where an address has none: from `PGPASSWORD`, or from the usual
//! password file, `~/.pgpass` or what `PGPASSFILE` names.

use std::env;
use std::fs::{self, Metadata};
use std::path::PathBuf;

use crate::{Error, Result};

/// The password for a host, port, database and user, to connect to `server`.
///
/// # Errors
/// [`Error::Server`] when the password file has one, but others can read that file.
pub(super) fn password_for(server: &str, wanted: [&str; 4]) -> Result<Option<String>> {
    if let Ok(password) = env::var("PGPASSWORD") {
        return Ok(Some(password));
    }
    let own = || Some(env::home_dir()?.join(".pgpass"));
    let Some(file) = env::var_os("PGPASSFILE").map(PathBuf::from).or_else(own) else {
        return Ok(None);
    };
    let Ok(text) = fs::read_to_string(&file) else { return Ok(None) };
    let password = found_in(&text, wanted);
    if password.is_some() && file.metadata().is_ok_and(|facts| is_readable_by_others(&facts)) {
        let said = format!("others can read the password file {}", file.display());
        let fix = "change its permissions: chmod 600";
        return Err(Error::Server { name: server.to_owned(), said, fix });
    }
    Ok(password)
}

#[cfg(unix)]
fn is_readable_by_others(facts: &Metadata) -> bool {
    use std::os::unix::fs::PermissionsExt;
    facts.is_file() && facts.permissions().mode() & 0o077 != 0
}

#[cfg(not(unix))]
fn is_readable_by_others(_: &Metadata) -> bool {
    false
}

/// The password of the first line that matches: `host:port:database:user:password`, where `*` matches
/// anything, and a backslash makes the next character an ordinary one.
fn found_in(file: &str, wanted: [&str; 4]) -> Option<String> {
    let mut lines = file.lines().filter(|line| !line.starts_with('#'));
    lines.find_map(|line| {
        let fields = fields(line);
        let [host, port, database, user, password] = &fields[..] else { return None };
        let fits = |(field, wanted): (&String, &str)| field == "*" || field == wanted;
        let all = [host, port, database, user].into_iter().zip(wanted);
        all.into_iter().all(fits).then(|| password.clone())
    })
}

fn fields(line: &str) -> Vec<String> {
    let (mut fields, mut field) = (Vec::new(), String::new());
    let mut signs = line.chars();
    while let Some(sign) = signs.next() {
        match sign {
            // The password is the rest.
            ':' if fields.len() < 4 => fields.push(std::mem::take(&mut field)),
            '\\' => field.extend(signs.next()),
            sign => field.push(sign),
        }
    }
    fields.push(field);
    fields
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_line_that_fits_has_the_password() {
        let file = "# ours\ndb:5432:co-op:edda:se\\:cr\\\\et\n*:*:*:edda:other:one\nbroken\n";
        for (wanted, password) in [
            (["db", "5432", "co-op", "edda"], Some("se:cr\\et")),
            (["db", "5433", "co-op", "edda"], Some("other:one")),
            (["db", "5432", "co-op", "jorun"], None),
        ] {
            assert_eq!(found_in(file, wanted).as_deref(), password, "{wanted:?}");
        }
    }
}
