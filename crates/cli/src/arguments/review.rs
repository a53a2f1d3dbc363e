//! The arguments of `review`.

use clap::Args;

use super::{QuestionOptions, Tables};

pub(super) const REVIEW_EXAMPLES: &str = "\
Examples:
    gather-keys review harvest.csv \\
        --from hives.csv --on 'Apiary = Site code, Hive = Tag' --take Keeper

    gather-keys review weekly.toml

Each question is answered by one key press: unmatched keys with those that come
near, values that many keys share, rows of one key that disagree, and values
that a step can't read; those of most rows first. An answer is written at once,
to the files of aliases and corrections that the call or the plan names, or else
to new ones next to the plan or the main table. Quit at any time: the next
review goes on from there.

Exit status: 0 done, also when questions are left; 2 the call or an input is
wrong, or there is no terminal.";

/// `review`.
#[derive(Debug, Args)]
pub(crate) struct Review {
    #[command(flatten)]
    pub(crate) tables: Tables,
    #[command(flatten)]
    options: QuestionOptions,
    /// Ask line by line instead of on the whole screen, for screen readers and slow terminals
    #[arg(long)]
    pub(crate) plain_prompts: bool,
}
