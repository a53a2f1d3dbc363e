//! Why keys are unmatched, and what would fix them.
//!
//! In go a lookup and the unmatched keys of its findings; out comes for each key its [`Reason`] with
//! the reference key that comes nearest, and for the lookup the [`Fix`]s that would match more, each
//! with its effect. No key is compared with all others: `spelling` makes hashes of what is left of
//! a key when its spelling does not count, `seek` finds the reference keys that share one, and only
//! these are compared, in `difference`. `fix` works out what a change of the key would do, key
//! by key, with the steps themselves.

mod bag;
mod dated;
mod difference;
mod elsewhere;
mod explain;
mod fix;
mod loose;
mod nearest;
mod reason;
mod seek;
mod spelling;

pub use dated::dated_part;
pub(crate) use difference::{Differences, Steps, are_unlike};
pub use elsewhere::Scout;
pub use explain::{Diagnosis, Explained, NEAREST};
pub use fix::Fix;
pub(crate) use loose::Loose;
pub(crate) use nearest::{by_cells, nearest_keys, readable_keys};
pub use reason::{Form, Reason};
