//! The arguments of `completions`, `manual` and `headers`.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::Args;
use clap_complete::Shell;

pub(super) const COMPLETIONS_EXAMPLES: &str = "\
Examples:
    gather-keys completions bash > ~/.local/share/bash-completion/completions/gather-keys
    gather-keys completions fish > ~/.config/fish/completions/gather-keys.fish
    gather-keys completions zsh > ~/.zfunc/_gather-keys

In bash and fish, the headers of the tables on the line are completed behind the
options that name columns: --on, --take, --columns and others.";

/// `completions`.
#[derive(Debug, Args)]
pub(crate) struct Completions {
    /// The shell: bash, zsh, fish, elvish or powershell
    #[arg(value_name = "SHELL", hide_possible_values = true)]
    pub(crate) shell: Shell,
}

pub(super) const MANUAL_EXAMPLES: &str = "\
Example:
    gather-keys manual ~/.local/share/man/man1
    man gather-keys-enrich";

/// `manual`.
#[derive(Debug, Args)]
pub(crate) struct Manual {
    /// The folder to write the pages to, which is made if it is not there
    #[arg(value_name = "DIR")]
    pub(crate) folder: PathBuf,
}

/// `headers`, for shells.
#[derive(Debug, Args)]
pub(crate) struct Headers {
    /// Print them as they are, for a shell that escapes them itself
    #[arg(long)]
    pub(crate) unescaped: bool,
    /// The words of the command line, up to the one that is completed
    #[arg(value_name = "WORD", allow_hyphen_values = true, trailing_var_arg = true)]
    pub(crate) words: Vec<OsString>,
}
