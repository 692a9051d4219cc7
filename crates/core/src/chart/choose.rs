//! What is drawn of which columns, where a person has not said.

use arrow_array::RecordBatch;

use super::ChartError;
use super::column::{Nature, nature};
use super::spec::{Aggregate, Kind, Spec, Stack, Step};
use crate::connection::nearest;

/// What is drawn, with all choices made. Columns are told by their numbers.
#[derive(Debug, Clone, PartialEq)]
pub struct Plan {
    /// The kind.
    pub kind: Kind,
    /// The column along the lower edge.
    pub x: Option<usize>,
    /// What its values are.
    pub x_nature: Nature,
    /// The columns along the left edge; none where rows are counted.
    pub y: Vec<usize>,
    /// What their values are.
    pub y_nature: Vec<Nature>,
    /// The column whose values are a series each.
    pub by: Option<usize>,
    /// The column whose values are a small chart each.
    pub each: Option<usize>,
    /// The column that a heat map shows.
    pub of: Option<usize>,
    /// The column whose words stand beside points of a map.
    pub label: Option<usize>,
    /// What is made of several values at one place; none where each is drawn.
    pub aggregate: Option<Aggregate>,
    /// The step of time to begin with.
    pub step: Option<Step>,
    /// Whether the step may become coarser: nobody asked for this one.
    pub chooses_step: bool,
    /// The names of all columns.
    pub names: Vec<String>,
}

impl Plan {
    /// Whether rows are put together by place.
    pub fn is_grouped(&self) -> bool {
        match self.kind {
            Kind::Bar => true,
            Kind::Line | Kind::Area => self.aggregate.is_some(),
            Kind::Heat => !self.is_density(),
            Kind::Scatter | Kind::Histogram | Kind::Box | Kind::Map => false,
        }
    }

    /// Whether it is a heat map of two numbers, which shows how many rows there are.
    pub fn is_density(&self) -> bool {
        self.kind == Kind::Heat && self.x_nature == Nature::Number && self.y_nature == [Nature::Number]
    }

    /// The columns that are read, in order.
    pub fn used(&self) -> Vec<usize> {
        let single = [self.x, self.by, self.each, self.of, self.label];
        let mut used: Vec<usize> = single.into_iter().flatten().chain(self.y.iter().copied()).collect();
        used.sort_unstable();
        used.dedup();
        used
    }

    /// The same for rows that have these columns only.
    fn among(self, columns: &[usize]) -> Plan {
        let place = |column: usize| columns.iter().position(|known| *known == column).unwrap_or(0);
        let names = columns.iter().map(|column| self.name(*column).to_owned()).collect();
        Plan {
            x: self.x.map(place),
            y: self.y.iter().map(|y| place(*y)).collect(),
            by: self.by.map(place),
            each: self.each.map(place),
            of: self.of.map(place),
            label: self.label.map(place),
            names,
            ..self
        }
    }

    /// The plan for a batch of all columns, as one for rows that have only those that are read, and which those are.
    pub fn narrow(spec: &Spec, batch: &RecordBatch) -> Result<(Plan, Vec<usize>), ChartError> {
        let plan = plan(spec, batch)?;
        let used = plan.used();
        // A result of rows that are only counted has its first column.
        let used = if used.is_empty() { vec![0] } else { used };
        Ok((plan.among(&used), used))
    }

    /// The name of a column.
    pub fn name(&self, column: usize) -> &str {
        self.names.get(column).map_or("", String::as_str)
    }

    /// What the left edge counts, in words.
    pub fn measure(&self) -> String {
        let names: Vec<&str> = self.y.iter().map(|y| self.name(*y)).collect();
        match (self.kind, self.aggregate) {
            (Kind::Histogram, _) => "rows".to_owned(),
            (Kind::Heat, _) => match self.of {
                Some(of) => format!("{} of {}", self.aggregate.unwrap_or(Aggregate::Mean).word(), self.name(of)),
                None => "rows".to_owned(),
            },
            (_, _) if names.is_empty() => "rows".to_owned(),
            (_, Some(aggregate)) if self.is_grouped() => format!("{} of {}", aggregate.word(), names.join(", ")),
            _ => names.join(", "),
        }
    }
}

/// Words that columns of places are called by.
const LATITUDE: &[&str] = &["lat", "latitude"];
const LONGITUDE: &[&str] = &["lon", "lng", "long", "longitude"];

/// Whether a column numbers things, so that its values measure nothing.
fn is_number_of_a_thing(name: &str) -> bool {
    let name = name.to_lowercase();
    name == "id" || name.ends_with("_id") || name.ends_with("_no") || name == "no" || name == "number"
}

/// Chooses what is not said in a spec by the columns of a batch.
pub fn plan(spec: &Spec, batch: &RecordBatch) -> Result<Plan, ChartError> {
    let schema = batch.schema();
    let names: Vec<String> = schema.fields().iter().map(|field| field.name().clone()).collect();
    let natures: Vec<Nature> =
        schema.fields().iter().zip(batch.columns()).map(|(field, column)| nature(field, column)).collect();
    let find = |name: &String| -> Result<usize, ChartError> {
        let found = names.iter().position(|known| known == name);
        let found = found.or_else(|| names.iter().position(|known| known.eq_ignore_ascii_case(name)));
        found.ok_or_else(|| ChartError::NoColumn {
            name: name.clone(),
            near: nearest(name, names.iter().map(String::as_str)).map(str::to_owned),
            all: names.join(", "),
        })
    };
    let said = |name: &Option<String>| name.as_ref().map(find).transpose();
    let (by, each, of) = (said(&spec.by)?, said(&spec.each)?, said(&spec.of)?);
    let mut x = said(&spec.x)?;
    let mut y = spec.y.iter().map(find).collect::<Result<Vec<_>, _>>()?;
    let taken = |column: usize| [x, by, each, of].contains(&Some(column)) || y.contains(&column);
    let free = |wanted: Nature| {
        (0..names.len())
            .filter(|column| natures.get(*column) == Some(&wanted))
            .filter(|column| !taken(*column))
            .collect::<Vec<_>>()
    };
    let nature_of = |column: usize| natures_of(schema.as_ref(), batch, column);
    let times = free(Nature::Time);
    let words = free(Nature::Name);
    let numbers = free(Nature::Number);
    let measures: Vec<usize> =
        numbers.iter().copied().filter(|c| !names.get(*c).is_some_and(|n| is_number_of_a_thing(n))).collect();
    let called = |words: &[&str]| {
        numbers
            .iter()
            .copied()
            .find(|c| names.get(*c).is_some_and(|name| words.contains(&name.to_lowercase().as_str())))
    };
    let place = called(LONGITUDE).zip(called(LATITUDE));
    let kind = spec.kind.unwrap_or_else(|| {
        let x_is = x.map(nature_of);
        let measured = !y.is_empty() || !measures.is_empty();
        match x_is {
            _ if of.is_some() => Kind::Heat,
            None if y.is_empty() && place.is_some() => Kind::Map,
            Some(Nature::Time) if measured => Kind::Line,
            None if !times.is_empty() && measured => Kind::Line,
            Some(Nature::Name | Nature::Time) => Kind::Bar,
            Some(Nature::Number) if measured => Kind::Scatter,
            Some(Nature::Number) => Kind::Histogram,
            None if !words.is_empty() || !times.is_empty() => Kind::Bar,
            None if measures.len() + y.len() >= 2 => Kind::Scatter,
            None => Kind::Histogram,
        }
    });
    let fill_y = |y: &mut Vec<usize>, x: Option<usize>, most: usize| {
        if y.is_empty() && spec.aggregate != Some(Aggregate::Count) {
            y.extend(measures.iter().copied().filter(|column| Some(*column) != x).take(most));
        }
    };
    match kind {
        Kind::Map => {
            let (longitude, latitude) = place.unzip();
            x = x.or(longitude);
            if y.is_empty() {
                y.extend(latitude);
            }
        }
        Kind::Histogram | Kind::Box => {
            if kind == Kind::Histogram && y.is_empty() {
                // Words have no ranges.
                y.extend(x.take().filter(|column| nature_of(*column) != Nature::Name));
            }
            fill_y(&mut y, x, 1);
            if kind == Kind::Box && x.is_none() && by.is_none() {
                x = words.first().copied();
            }
        }
        Kind::Scatter => {
            x = x
                .or_else(|| measures.first().copied().filter(|_| y.is_empty() || measures.len() > 1))
                .or_else(|| times.first().copied());
            fill_y(&mut y, x, 1);
        }
        Kind::Heat => {
            x = x.or_else(|| times.first().or(words.first()).or(measures.first()).copied());
            if y.is_empty() {
                let rest =
                    words.iter().chain(&measures).copied().find(|column| Some(*column) != x && Some(*column) != of);
                y.extend(rest);
            }
        }
        Kind::Line | Kind::Area | Kind::Bar => {
            x = x.or_else(|| times.first().or(words.first()).copied());
            if x.is_none() && kind != Kind::Bar {
                x = numbers.first().copied();
            }
            x = x.or_else(|| numbers.first().copied());
            // Bars beside each other are read one by one, lines together.
            fill_y(&mut y, x, if kind == Kind::Bar || by.is_some() { 1 } else { 6 });
        }
    }
    let mut x_nature = x.map_or(Nature::Name, nature_of);
    let mut by = by;
    // Boxes stand beside each other by a column, as series do.
    if kind == Kind::Box {
        by = by.or(x.take());
        x_nature = Nature::Name;
    }
    let needs = |what: &str| {
        ChartError::Needs(format!(
            "a {} needs {what}",
            if kind == Kind::Map { "map".to_owned() } else { format!("{} chart", kind.word()) }
        ))
    };
    match kind {
        Kind::Map if x.is_none() || y.is_empty() => {
            return Err(needs("two columns of numbers: longitude as x and latitude as y"));
        }
        Kind::Scatter if x.is_none() || y.is_empty() => return Err(needs("two columns of numbers or times")),
        Kind::Histogram | Kind::Box if y.is_empty() => return Err(needs("a column of numbers")),
        Kind::Line | Kind::Area if y.is_empty() && spec.aggregate != Some(Aggregate::Count) => {
            return Err(needs("a column of numbers, or aggregate=count"));
        }
        Kind::Heat if x.is_none() || y.is_empty() => return Err(needs("two columns, and of= for what it shows")),
        _ => {}
    }
    let y_nature: Vec<Nature> = y.iter().map(|column| nature_of(*column)).collect();
    if let Some((column, _)) =
        y.iter().zip(&y_nature).find(|(_, nature)| **nature == Nature::Name && kind != Kind::Heat)
    {
        let name = names.get(*column).cloned().unwrap_or_default();
        return Err(ChartError::Needs(format!("{name} is not a column of numbers; aggregate=count counts rows")));
    }
    if matches!(kind, Kind::Scatter | Kind::Map) && x_nature == Nature::Name {
        return Err(needs("numbers or times on the x axis"));
    }
    let steps = x_nature == Nature::Time;
    let grouped = match kind {
        Kind::Bar | Kind::Heat => true,
        Kind::Line | Kind::Area => {
            let piled = kind == Kind::Area && spec.stack != Stack::Beside;
            spec.aggregate.is_some() || spec.step.is_some() || x_nature == Nature::Name || piled || y.is_empty()
        }
        _ => false,
    };
    let usual = match kind {
        Kind::Heat => Aggregate::Mean,
        _ if y.is_empty() => Aggregate::Count,
        _ => Aggregate::Sum,
    };
    Ok(Plan {
        kind,
        x,
        x_nature,
        y,
        y_nature,
        by,
        each,
        of,
        label: words.first().copied().filter(|_| kind == Kind::Map && by.is_none()),
        aggregate: grouped.then(|| spec.aggregate.unwrap_or(usual)),
        step: (steps && grouped).then(|| spec.step.unwrap_or(Step::Minute)),
        chooses_step: spec.step.is_none(),
        names,
    })
}

fn natures_of(schema: &arrow_schema::Schema, batch: &RecordBatch, column: usize) -> Nature {
    match (schema.fields().get(column), batch.columns().get(column)) {
        (Some(field), Some(values)) => nature(field, values),
        _ => Nature::Name,
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_array::{ArrayRef, Float64Array, Int64Array, StringArray};

    use super::*;

    fn batch(columns: &[&str]) -> RecordBatch {
        let columns = columns.iter().map(|name| -> (&str, ArrayRef, bool) {
            let values: ArrayRef = match *name {
                "day" | "left_at" => Arc::new(StringArray::from(vec!["2031-03-05"])),
                "route" | "port" | "line" => Arc::new(StringArray::from(vec!["Saltmarsh"])),
                "id" => Arc::new(Int64Array::from(vec![7])),
                _ => Arc::new(Float64Array::from(vec![1.5])),
            };
            (name, values, true)
        });
        RecordBatch::try_from_iter_with_nullable(columns).unwrap()
    }

    /// What is chosen for these columns, as `kind x y,y`.
    fn chosen(columns: &[&str], spec: Spec) -> String {
        match plan(&spec, &batch(columns)) {
            Ok(plan) => {
                let name = |column: usize| plan.name(column).to_owned();
                let y: Vec<String> = plan.y.iter().map(|y| name(*y)).collect();
                let by = plan.by.map(|by| format!(" by {}", name(by))).unwrap_or_default();
                format!("{} {} {}{by}", plan.kind.word(), plan.x.map_or("-".into(), name), y.join(","))
            }
            Err(error) => error.to_string(),
        }
    }

    #[test]
    fn the_columns_say_what_is_drawn() {
        for (columns, expected) in [
            (&["id", "day", "taken"][..], "line day taken"),
            (&["day", "taken", "lost"], "line day taken,lost"),
            (&["route", "taken"], "bar route taken"),
            (&["id", "route"], "bar route "),
            (&["fare", "distance"], "scatter fare distance"),
            (&["id", "fare"], "histogram - fare"),
            (&["port", "latitude", "longitude"], "map longitude latitude"),
            (&["day"], "bar day "),
        ] {
            assert_eq!(chosen(columns, Spec::default()), expected, "{columns:?}");
        }
    }

    #[test]
    fn what_is_said_counts() {
        let with = |set: &[(&str, &str)], kind: Option<Kind>| {
            let mut spec = Spec { kind, ..Spec::default() };
            set.iter().for_each(|(key, value)| spec.set(key, value).unwrap().unwrap());
            spec
        };
        let columns = ["day", "route", "taken", "lost"];
        assert_eq!(chosen(&columns, with(&[("x", "route")], None)), "bar route taken");
        assert_eq!(chosen(&columns, with(&[("by", "ROUTE"), ("y", "lost")], None)), "line day lost by route");
        assert_eq!(chosen(&columns, with(&[], Some(Kind::Box))), "box - taken by route");
        assert_eq!(chosen(&columns, with(&[("of", "lost")], None)), "heat day route");
        assert_eq!(
            chosen(&columns, with(&[("y", "takn")], None)),
            "no column \"takn\" in this result · did you mean \"taken\"? The columns are day, route, taken, lost"
        );
        assert_eq!(
            chosen(&["port", "route"], with(&[], Some(Kind::Scatter))),
            "a scatter chart needs two columns of numbers or times"
        );
        assert_eq!(
            chosen(&columns, with(&[("y", "route")], Some(Kind::Line))),
            "route is not a column of numbers; aggregate=count counts rows"
        );
    }
}
