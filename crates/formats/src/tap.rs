//! An observer of the bytes that are read of a file.

use std::io::Read;

/// Takes note of the bytes of a file.
pub trait Tap {
    /// Passes on the bytes of a file as they are read.
    fn on(&self, input: Box<dyn Read + Send>) -> Box<dyn Read + Send>;

    /// Notes a file of this size that is read in an order of its own, and returns whether that is enough.
    /// If not, its bytes are read from front to back first.
    fn lets_by(&self, bytes: u64) -> bool;
}

/// Takes note of nothing.
///
/// ```
/// use gather_keys_formats::{Tap, Untapped};
///
/// assert!(Untapped.lets_by(42));
/// ```
#[derive(Debug, Clone, Copy)]
pub struct Untapped;

impl Tap for Untapped {
    fn on(&self, input: Box<dyn Read + Send>) -> Box<dyn Read + Send> {
        input
    }

    fn lets_by(&self, _bytes: u64) -> bool {
        true
    }
}
