//! Sorting for lists that are short, nearly in order or rarely sorted. The standard library's sort compiles to some 5 kB for
//! each type and each comparison. This one is compiled once: it sorts positions, then moves the elements.

use std::cmp::Ordering;

/// Stable sorting as in the standard library, with less code and more time.
pub trait ColdSort<T> {
    /// Like `slice::sort_by`.
    fn cold_sort_by(&mut self, compare: impl FnMut(&T, &T) -> Ordering);

    /// Like `slice::sort_by_key`.
    fn cold_sort_by_key<K: Ord>(&mut self, key: impl FnMut(&T) -> K);
}

impl<T> ColdSort<T> for [T] {
    fn cold_sort_by(&mut self, mut compare: impl FnMut(&T, &T) -> Ordering) {
        let sources = sorted(self.len(), &mut |a, b| compare(&self[a], &self[b]));
        permute(sources, &mut |a, b| self.swap(a, b));
    }

    fn cold_sort_by_key<K: Ord>(&mut self, mut key: impl FnMut(&T) -> K) {
        self.cold_sort_by(|a, b| key(a).cmp(&key(b)));
    }
}

/// For each position in the sorted list, the present position of its element.
fn sorted(count: usize, compare: &mut dyn FnMut(usize, usize) -> Ordering) -> Vec<usize> {
    let mut sources: Vec<usize> = (0..count).collect();
    sources.sort_by(|a, b| compare(*a, *b));
    sources
}

/// Moves each element to its position, one cycle of the permutation after another.
fn permute(mut sources: Vec<usize>, swap: &mut dyn FnMut(usize, usize)) {
    for start in 0..sources.len() {
        let mut at = start;
        loop {
            let source = std::mem::replace(&mut sources[at], at);
            if source == start {
                break;
            }
            swap(at, source);
            at = source;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn it_sorts_as_the_standard_library_does(values in proptest::collection::vec((0..9, any::<u8>()), 0..60)) {
            let (mut ours, mut theirs) = (values.clone(), values);
            ours.cold_sort_by_key(|(key, _)| *key);
            theirs.sort_by_key(|(key, _)| *key);
            prop_assert_eq!(&ours, &theirs);
            let compare = |a: &(i32, u8), b: &(i32, u8)| b.1.cmp(&a.1).then(a.0.cmp(&b.0));
            ours.cold_sort_by(compare);
            theirs.sort_by(compare);
            prop_assert_eq!(ours, theirs);
        }
    }
}
