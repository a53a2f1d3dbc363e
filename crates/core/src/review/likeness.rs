//! Where two texts differ, character by character.

/// Longer texts are compared by their beginnings and ends only.
const LONGEST: usize = 200;

/// For each character of `text` whether `other` lacks it, when as many others as can be are in the same order in both. Where
/// hardly any are, all differ: single ones would only be confusing.
///
/// ```
/// use gather_keys_core::review::differing;
///
/// let marks = |text, other| -> String {
///     differing(text, other).into_iter().map(|is| if is { '^' } else { ' ' }).collect()
/// };
/// assert_eq!(marks("Bramble End", "Bramble Ende"), "           ");
/// assert_eq!(marks("Bramble Ende", "Bramble End"), "           ^");
/// assert_eq!(marks("Edda", "Orla"), "^^^^");
/// ```
pub fn differing(text: &str, other: &str) -> Vec<bool> {
    let (text, other): (Vec<char>, Vec<char>) = (text.chars().collect(), other.chars().collect());
    let start = text.iter().zip(&other).take_while(|(a, b)| a == b).count();
    let ends = text[start..].iter().rev().zip(other[start..].iter().rev());
    let end = ends.take_while(|(a, b)| a == b).count();
    let (ours, theirs) = (&text[start..text.len() - end], &other[start..other.len() - end]);
    let mut marks = vec![false; text.len()];
    let differ = &mut marks[start..text.len() - end];
    differ.fill(true);
    if ours.len().max(theirs.len()) > LONGEST {
        return marks;
    }
    // The length of the longest common part of what follows each pair of places.
    let wide = theirs.len() + 1;
    let mut common = vec![0_u16; (ours.len() + 1) * wide];
    for a in (0..ours.len()).rev() {
        for b in (0..theirs.len()).rev() {
            common[a * wide + b] = if ours[a] == theirs[b] {
                common[(a + 1) * wide + b + 1] + 1
            } else {
                common[(a + 1) * wide + b].max(common[a * wide + b + 1])
            };
        }
    }
    let (mut a, mut b) = (0, 0);
    while a < ours.len() && b < theirs.len() {
        if ours[a] == theirs[b] {
            differ[a] = false;
            (a, b) = (a + 1, b + 1);
        } else if common[(a + 1) * wide + b] >= common[a * wide + b + 1] {
            a += 1;
        } else {
            b += 1;
        }
    }
    let shared = marks.iter().filter(|differs| !**differs).count();
    if shared * 2 < text.len() {
        marks.fill(true);
    }
    marks
}
