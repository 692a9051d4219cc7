//! Rows put together by place and series.

use std::collections::HashMap;

use super::spread::{quantile, sorted};
use crate::chart::spec::{Aggregate, Step};
use crate::chart::steps::start_of;

/// The values at one place.
#[derive(Debug, Clone, PartialEq)]
pub struct Group {
    /// How many.
    pub count: u64,
    sum: f64,
    min: f64,
    max: f64,
    values: Vec<f64>,
}

impl Group {
    pub(super) fn new() -> Group {
        Group { count: 0, sum: 0.0, min: f64::INFINITY, max: f64::NEG_INFINITY, values: Vec::new() }
    }

    pub(super) fn add(&mut self, value: f64, keep: bool) {
        self.count += 1;
        self.sum += value;
        self.min = self.min.min(value);
        self.max = self.max.max(value);
        if keep {
            self.values.push(value);
        }
    }

    /// Adds what another place has.
    pub(in crate::chart) fn merge(&mut self, other: &Group) {
        self.count += other.count;
        self.sum += other.sum;
        self.min = self.min.min(other.min);
        self.max = self.max.max(other.max);
        self.values.extend_from_slice(&other.values);
    }

    /// What is made of them.
    pub fn value(&self, aggregate: Aggregate) -> f64 {
        match aggregate {
            Aggregate::Sum => self.sum,
            Aggregate::Mean => self.sum / self.count as f64,
            Aggregate::Count => self.count as f64,
            Aggregate::Min => self.min,
            Aggregate::Max => self.max,
            Aggregate::Median => quantile(&sorted(&self.values), 0.5),
        }
    }
}

/// A place of the lower edge that is told apart from the others.
#[derive(Debug, Clone, PartialEq)]
pub enum Key {
    /// A word.
    Name(String),
    /// A number, or the beginning of a step of time.
    Number(f64),
}

/// Groups by place and series.
#[derive(Debug, Clone, Default)]
pub struct Groups {
    /// The places.
    pub keys: Vec<Key>,
    names: HashMap<String, u32>,
    numbers: HashMap<u64, u32>,
    /// By place and series.
    pub groups: HashMap<(u32, u32), Group>,
    /// How many values are kept for medians.
    pub(super) values: u64,
}

impl Groups {
    pub(super) fn name(&mut self, name: &str) -> u32 {
        if let Some(at) = self.names.get(name) {
            return *at;
        }
        let at = self.keys.len() as u32;
        self.keys.push(Key::Name(name.to_owned()));
        self.names.insert(name.to_owned(), at);
        at
    }

    pub(super) fn number(&mut self, number: f64) -> u32 {
        let keys = &mut self.keys;
        *self.numbers.entry((number + 0.0).to_bits()).or_insert_with(|| {
            keys.push(Key::Number(number));
            keys.len() as u32 - 1
        })
    }

    /// Puts steps of time together.
    pub(super) fn coarsen(&mut self, step: Step) {
        let old = std::mem::take(self);
        self.values = old.values;
        for ((key, series), group) in old.groups {
            let Some(Key::Number(at)) = old.keys.get(key as usize) else { continue };
            let key = self.number(start_of(*at, step));
            self.groups.entry((key, series)).or_insert_with(Group::new).merge(&group);
        }
    }
}
