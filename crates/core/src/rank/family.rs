//! Processes as families: children below their parents.

use super::folds::{Folds, RowId};
use super::ledger::{Ledger, place_of_pid};
use super::table::{Group, Line, Table, below, id};
use super::totals::Sum;
use super::{Known, Order, Population, RowRef};
use crate::catalogue::{Combine, Value};
use std::ops::Range;

/// Nobody, where a place is expected.
const NOBODY: u32 = u32::MAX;

/// Who started whom. Nodes are places in the order; as of everybody some are kept, in as little memory as will do.
pub(super) struct Family<'a> {
    population: &'a Population<'a>,
    ordered: &'a [RowRef],
    matching: Vec<bool>,
    roots: Vec<u32>,
    /// Children of all, those of one behind those of another, and where those of each begin.
    children: Vec<u32>,
    begins: Vec<u32>,
}

/// Siblings that are being put into rows.
struct Siblings<'a> {
    nodes: &'a [u32],
    /// So many of them are in rows.
    put: usize,
    depth: u16,
    branches: u64,
}

impl<'a> Family<'a> {
    pub(super) fn new(
        population: &'a Population<'a>,
        ordered: &'a [RowRef],
        matching: &dyn Fn(RowRef) -> bool,
        order: &Order,
        held: Option<&dyn Fn(&RowId) -> usize>,
        ledger: &mut Ledger,
    ) -> Family<'a> {
        let matching: Vec<bool> = ordered.iter().map(|row| matching(*row)).collect();
        let parents = parents(population, ordered, ledger);
        // Whoever has somebody below that is kept is there as well.
        let mut needed = matching.clone();
        for (start, _) in matching.iter().enumerate().filter(|(_, matching)| **matching) {
            let mut above = parents[start];
            while above != NOBODY && !needed[above as usize] {
                needed[above as usize] = true;
                above = parents[above as usize];
            }
        }
        let with_parents =
            || (0u32..).zip(&parents).zip(&needed).filter(|(_, needed)| **needed).map(|(one, _)| one);
        let mut begins = vec![0; ordered.len() + 1];
        for (_, parent) in with_parents().filter(|(_, parent)| **parent != NOBODY) {
            begins[*parent as usize + 1] += 1;
        }
        let mut before = 0;
        for begin in &mut begins {
            before += *begin;
            *begin = before;
        }
        // Where the next child of each goes.
        let mut next = begins.clone();
        let (mut roots, mut children) = (vec![], vec![0; before as usize]);
        for (at, parent) in with_parents() {
            if *parent == NOBODY {
                roots.push(at);
            } else {
                let place = &mut next[*parent as usize];
                children[*place as usize] = at;
                *place += 1;
            }
        }
        let mut family = Family { population, ordered, matching, roots, children, begins };
        match held {
            None => family.sort(order, &Known::of_all(population, order, ledger)),
            Some(held) => {
                let place = |at: &u32| held(&id(population, ordered[*at as usize]));
                for at in 0..ordered.len() as u32 {
                    let range = family.range(at);
                    family.children[range].sort_by_cached_key(place);
                }
                family.roots.sort_by_cached_key(place);
            }
        }
        family
    }

    fn range(&self, at: u32) -> Range<usize> {
        self.begins[at as usize] as usize..self.begins[at as usize + 1] as usize
    }

    fn children(&self, at: u32) -> &[u32] {
        &self.children[self.range(at)]
    }

    /// Siblings stand in the order of what they and all below them use together. They come in the order of what each uses itself,
    /// so those with nobody below them stand right already.
    fn sort(&mut self, order: &Order, known: &Known<'_>) {
        let ordered = self.ordered;
        let own = |at: u32| known.of(ordered[at as usize]);
        let branches = self.branches();
        // Of those that have somebody below them; nobody for the others.
        let mut place_of = vec![NOBODY; ordered.len()];
        for (place, at) in (0u32..).zip(&branches) {
            place_of[*at as usize] = place;
        }
        let adds = |combine: Combine| matches!(combine, Combine::Sum | Combine::Most | Combine::Least);
        let combines = [Some(order.first), order.then].map(|key| key.map(|key| key.metric.combine));
        let mut sums: Vec<[Value; 2]> = vec![[Value::Absent, Value::Absent]; branches.len()];
        for (place, at) in branches.iter().enumerate().rev() {
            let mut sum = [Sum::NOTHING, Sum::NOTHING];
            for (key, combine) in combines.iter().enumerate() {
                let Some(combine) = *combine else { continue };
                // An ancestor that does not match itself adds nothing.
                if self.matching[*at as usize] || !adds(combine) {
                    sum[key].add(own(*at)[key], false, combine);
                }
                for child in self.children(*at).iter().filter(|_| adds(combine)) {
                    let below = sums.get(place_of[*child as usize] as usize);
                    let below = below.map_or_else(|| own(*child), <[Value; 2]>::each_ref);
                    sum[key].add(below[key], false, combine);
                }
            }
            let mut combines = combines.iter();
            sums[place] = sum.map(|sum| match combines.next().copied().flatten() {
                Some(combine) => sum.total(combine).value,
                None => Value::Absent,
            });
        }
        let value = |at: &u32| {
            let sum = sums.get(place_of[*at as usize] as usize);
            let [first, then] = sum.map_or_else(|| own(*at), <[Value; 2]>::each_ref);
            order.values_of(first.clone(), then.clone())
        };
        for at in branches {
            if self.children(at).iter().any(|child| place_of[*child as usize] != NOBODY) {
                let range = self.range(at);
                order.sort_by(value, &mut self.children[range]);
            }
        }
        order.sort_by(value, &mut self.roots);
    }

    /// All that have somebody below them, each before those below it.
    fn branches(&self) -> Vec<u32> {
        let has_children = |at: &&u32| !self.range(**at).is_empty();
        let mut branches = vec![];
        let mut open: Vec<u32> = self.roots.iter().filter(has_children).copied().collect();
        while let Some(at) = open.pop() {
            branches.push(at);
            open.extend(self.children(at).iter().filter(has_children));
        }
        branches
    }

    pub(super) fn put(&self, folds: &Folds, table: &mut Table) {
        table.lines.reserve(self.roots.len() + self.children.len());
        let mut open = vec![Siblings { nodes: &self.roots, put: 0, depth: 0, branches: 0 }];
        while let Some(siblings) = open.last_mut() {
            let Some(at) = siblings.nodes.get(siblings.put).copied() else {
                open.pop();
                continue;
            };
            siblings.put += 1;
            let last = siblings.put == siblings.nodes.len();
            let (depth, branches) = (siblings.depth, siblings.branches);
            let listed = self.ordered[at as usize];
            let context = !self.matching[at as usize];
            let mut line = Line { depth, context, last, branches, ..Line::plain(listed) };
            let nodes = self.children(at);
            if !nodes.is_empty() {
                let is_open = folds.is_process_open(|| id(self.population, listed));
                line.open = Some(is_open);
                if is_open {
                    let (depth, branches) = (depth.saturating_add(1), below(&line));
                    open.push(Siblings { nodes, put: 0, depth, branches });
                } else {
                    line.totals = Some(table.groups.len());
                    line.context = false;
                    table.groups.push(Group {
                        idle_of: None,
                        label: self.population.view(listed).now.name.clone(),
                        members: self.all_below(at),
                    });
                }
            }
            table.lines.push(line);
        }
    }

    /// Those that are kept of one and all below it.
    fn all_below(&self, at: u32) -> Vec<RowRef> {
        let mut members = vec![];
        let mut open = vec![at];
        while let Some(at) = open.pop() {
            if self.matching[at as usize] {
                members.push(self.ordered[at as usize]);
            }
            open.extend(self.children(at));
        }
        members
    }
}

/// The place of each one's parent in the order, or nobody.
fn parents(population: &Population<'_>, ordered: &[RowRef], ledger: &mut Ledger) -> Vec<u32> {
    let sample = population.of_values();
    let parents = ledger.parents(sample);
    let mut place_of = vec![NOBODY; parents.len()];
    for (at, row) in (0u32..).zip(ordered) {
        if let RowRef::Here(place) = row {
            place_of[*place] = at;
        }
    }
    let parent = |row: &RowRef| {
        let place = match row {
            RowRef::Here(place) => parents[*place],
            other => place_of_pid(sample, population.view(*other).now.ppid.value()?),
        };
        Some(place_of[place?])
    };
    ordered.iter().map(|row| parent(row).unwrap_or(NOBODY)).collect()
}
