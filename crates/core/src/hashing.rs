//! Hashes of keys, seeded anew for each run, and a hasher that passes hashes through.

use std::hash::{BuildHasher, BuildHasherDefault, Hasher};

use ahash::RandomState;

/// The seed of the hashes of a run: without it, keys could be made to collide. It has no effect on what is found.
pub type Seed = [u64; 4];

/// The 32 bits of a packed key's hash that an index keeps.
#[inline]
pub(crate) fn hash(hasher: &RandomState, key: &[u8]) -> u32 {
    // A packed key is prefix-free, so that its length need not be hashed.
    let mut hasher = hasher.build_hasher();
    hasher.write(key);
    (hasher.finish() >> 32) as u32
}

/// Builds the hasher of maps and sets whose keys are hashes already.
pub(crate) type PassHash = BuildHasherDefault<PassHasher>;

/// Passes a hash through.
#[derive(Debug, Clone, Default)]
pub(crate) struct PassHasher(u64);

impl Hasher for PassHasher {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write(&mut self, bytes: &[u8]) {
        for &byte in bytes {
            self.0 = self.0 << 8 | u64::from(byte);
        }
    }

    fn write_u64(&mut self, hash: u64) {
        self.0 = hash;
    }
}
