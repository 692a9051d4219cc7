//! Groups as a table: a row for each place, a column for each series.

use std::collections::HashMap;

use crate::chart::Aggregate;
use crate::chart::gather::{Body, Data, Group, Key, Part};
use crate::chart::spec::Step;
use crate::chart::steps;

/// A place.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Slot {
    /// Its word, where it is one; others are told by their beginning.
    pub name: Option<String>,
    /// Where it begins along the bottom.
    pub at: Option<f64>,
    /// Where the next one begins.
    pub end: Option<f64>,
}

/// Groups by place and series.
#[derive(Debug, Clone, Default)]
pub(super) struct Table {
    /// The places: numbers and times in their order, words by what is greatest.
    pub keys: Vec<Slot>,
    /// What each series has at each place.
    pub values: Vec<Vec<Option<f64>>>,
    /// How many rows each place has.
    pub rows: Vec<u64>,
    /// The step of time that places are.
    pub step: Option<Step>,
    groups: Vec<Vec<Option<Group>>>,
}

impl Table {
    /// The table of a part, with these series, of which the last takes what belongs to no other, and in steps of time.
    pub fn of(part: &Part, data: &Data, series: &[String], step: Option<Step>) -> Table {
        let Body::Groups(groups) = &part.body else { return Table::default() };
        let aggregate = data.plan.aggregate.unwrap_or(Aggregate::Count);
        let columns: Vec<usize> = part
            .series
            .iter()
            .map(|name| series.iter().position(|known| known == name).unwrap_or(series.len().saturating_sub(1)))
            .collect();
        let is_time = data.plan.x_nature == crate::chart::column::Nature::Time;
        let step = step.filter(|_| is_time);
        let mut at: HashMap<String, usize> = HashMap::new();
        let mut table = Table { step, ..Table::default() };
        for ((key, column), group) in &groups.groups {
            let Some(key) = groups.keys.get(*key as usize) else { continue };
            let slot = match (key, step) {
                (Key::Name(name), _) => Slot { name: Some(name.clone()), at: None, end: None },
                (Key::Number(number), Some(step)) => {
                    let start = steps::start_of(*number, step);
                    Slot { name: None, at: Some(start), end: Some(steps::next(start, step)) }
                }
                (Key::Number(number), None) => Slot { name: None, at: Some(*number), end: None },
            };
            let id = slot.name.clone().unwrap_or_else(|| slot.at.unwrap_or(0.0).to_bits().to_string());
            let row = *at.entry(id).or_insert_with(|| {
                table.keys.push(slot);
                table.groups.push(vec![None; series.len().max(1)]);
                table.rows.push(0);
                table.keys.len() - 1
            });
            let Some(cell) = columns.get(*column as usize).and_then(|column| table.groups[row].get_mut(*column)) else {
                continue;
            };
            match cell {
                Some(known) => known.merge(group),
                none => *none = Some(group.clone()),
            }
            table.rows[row] += group.count;
        }
        table.count(aggregate);
        table.order();
        table
    }

    fn count(&mut self, aggregate: Aggregate) {
        let value = |cell: &Option<Group>| cell.as_ref().map(|group| group.value(aggregate));
        self.values = self.groups.iter().map(|row| row.iter().map(value).collect()).collect();
    }

    /// What a place has in all.
    pub fn total(&self, row: usize) -> f64 {
        self.values.get(row).map_or(0.0, |values| values.iter().flatten().sum())
    }

    fn order(&mut self) {
        let mut order: Vec<usize> = (0..self.keys.len()).collect();
        order.sort_by(|a, b| match (self.keys[*a].at, self.keys[*b].at) {
            (Some(a), Some(b)) => a.total_cmp(&b),
            _ => self.total(*b).total_cmp(&self.total(*a)).then_with(|| self.keys[*a].name.cmp(&self.keys[*b].name)),
        });
        self.keys = order.iter().map(|at| self.keys[*at].clone()).collect();
        self.values = order.iter().map(|at| self.values[*at].clone()).collect();
        self.rows = order.iter().map(|at| self.rows[*at]).collect();
        self.groups = order.iter().map(|at| self.groups[*at].clone()).collect();
    }

    /// The places by name, as the rows of a heat map are.
    pub fn by_name(&mut self) {
        let mut order: Vec<usize> = (0..self.keys.len()).collect();
        order.sort_by(|a, b| self.keys[*a].name.cmp(&self.keys[*b].name));
        self.keys = order.iter().map(|at| self.keys[*at].clone()).collect();
        self.values = order.iter().map(|at| self.values[*at].clone()).collect();
        self.rows = order.iter().map(|at| self.rows[*at]).collect();
        self.groups = order.iter().map(|at| self.groups[*at].clone()).collect();
    }

    /// Puts all words beyond the first so many together, and says how many they were.
    pub fn keep(&mut self, most: usize, aggregate: Aggregate) -> usize {
        if self.keys.len() <= most.max(2) {
            return 0;
        }
        let first = most.saturating_sub(1).max(1);
        let others = self.keys.len() - first;
        let mut together: Vec<Option<Group>> = vec![None; self.groups.first().map_or(1, Vec::len)];
        for row in self.groups.drain(first..) {
            for (cell, group) in together.iter_mut().zip(row) {
                match (cell.as_mut(), group) {
                    (Some(known), Some(group)) => known.merge(&group),
                    (None, Some(group)) => *cell = Some(group),
                    (_, None) => {}
                }
            }
        }
        self.groups.push(together);
        self.keys.truncate(first);
        self.keys.push(Slot { name: Some(format!("{others} others")), at: None, end: None });
        let rows = self.rows.drain(first..).sum();
        self.rows.push(rows);
        self.count(aggregate);
        others
    }

    /// The number of a place along the bottom, counted with those between that have no rows.
    pub fn slot_of(&self, row: usize) -> usize {
        let at = |row: usize| self.keys.get(row).and_then(|key| key.at);
        match (at(0), at(row), self.step) {
            (Some(first), Some(at), Some(step)) => {
                usize::try_from(steps::index(at, step) - steps::index(first, step)).unwrap_or(0)
            }
            _ => row,
        }
    }

    /// How many places there are along the bottom, with those between that have no rows.
    pub fn slots(&self) -> usize {
        let (Some(first), Some(last)) = (self.keys.first(), self.keys.last()) else { return 0 };
        match (first.at, last.at, self.step) {
            (Some(first), Some(last), Some(step)) => {
                usize::try_from(steps::index(last, step) - steps::index(first, step) + 1).unwrap_or(1)
            }
            _ => self.keys.len(),
        }
    }
}
