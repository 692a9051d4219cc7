//! Into what takes any fields: a collection, or keys.

use jaunty_language::dialect::{ColumnType, Dialect, Filling, Takes};
use jaunty_seam::catalog::Column;

use super::{Matching, Target};
use crate::import::found::{Found, FoundColumn};
use crate::import::{Dates, ImportError, Numbers};
use crate::slip::Kind;

/// The field that tells documents apart.
const KEY: &str = "_id";

/// The column that is the value, where there can only be one.
const VALUE: &str = "value";

/// What the values of a field are, by what was found of them. Texts are not checked.
fn kind_of(found: ColumnType) -> Kind {
    match found {
        ColumnType::Integer | ColumnType::Long => Kind::Integer(i64::MIN.into(), i64::MAX.into()),
        ColumnType::Decimal => Kind::Decimal(None),
        ColumnType::Real => Kind::Real,
        ColumnType::Boolean => Kind::Boolean,
        ColumnType::Date | ColumnType::Moment | ColumnType::Instant => Kind::Moment,
        ColumnType::Json => Kind::Json,
        ColumnType::Time | ColumnType::Uuid | ColumnType::Text | ColumnType::Bytes => Kind::Any,
    }
}

impl Matching {
    /// Into a collection, which takes any fields: each column is one, of its own name or of that in `pairs`; an empty one
    /// leaves a column out. A key can only be `_id`.
    pub fn into_collection(
        found: &Found,
        name: &str,
        (key, pairs): (&[String], &[(String, String)]),
        dialect: &'static Dialect,
    ) -> Result<Matching, ImportError> {
        let mistake = |text: String| Err(ImportError::Mistake(text));
        let known = |name: &str| found.columns.iter().any(|column| column.name == name);
        if let Some((wrong, _)) = pairs.iter().find(|(file, _)| !known(file)) {
            return mistake(format!("the file has no column \"{wrong}\""));
        }
        let (mut targets, mut left_out) = (Vec::<Target>::new(), Vec::new());
        for (from, file) in found.columns.iter().enumerate() {
            let told = pairs.iter().find(|(name, _)| *name == file.name).map_or(file.name.as_str(), |(_, to)| to);
            if told.is_empty() {
                left_out.push((file.name.clone(), "not wanted"));
                continue;
            }
            if targets.iter().any(|target| target.column.name == told) {
                return mistake(format!("two columns would be \"{told}\"; --column FILE=FIELD gives one another name"));
            }
            let is_key = told == KEY;
            let column = Column {
                name: told.to_owned(),
                db_type: file.db_type(false, dialect, found.language),
                nullable: !is_key,
                key: is_key,
                ..Column::default()
            };
            let (dates, numbers, loses) = (file.dates, file.numbers, file.lost_in_documents());
            let kind = kind_of(file.of(found.language));
            let lists = file.lists_for(&kind, found.language.is_some_and(|of| of.name == dialect.name));
            targets.push(Target { column, kind, from, dates, numbers, lists, loses });
        }
        if targets.is_empty() {
            return mistake("every column is left out".into());
        }
        let has_key = targets.iter().any(|target| target.column.key);
        match key {
            [] => {}
            [key] if has_key && key == KEY => {}
            [key] if !has_key => {
                return mistake(format!("the key of a document is {KEY}; --column {key}={KEY} makes it that"));
            }
            _ => return mistake(format!("the key of a document is {KEY} alone")),
        }
        let key = if has_key { vec![KEY.to_owned()] } else { Vec::new() };
        Ok(Matching { table: dialect.name_as_written(name), targets, key, left_out, definition: None })
    }

    /// Into what the language has in the place of tables: `key` are the columns whose values stand in the name of where
    /// it goes, in its order; the others are fields, or the one value. `pairs` are as for a collection.
    pub fn into_filling(
        found: &Found,
        filling: &Filling,
        (key, pairs): (&[String], &[(String, String)]),
        dialect: &'static Dialect,
    ) -> Result<Matching, ImportError> {
        let mistake = |text: String| Err(ImportError::Mistake(text));
        let known = |name: &str| found.columns.iter().any(|column| column.name == name);
        let named = pairs.iter().map(|(file, _)| file).chain(key);
        if let Some(wrong) = named.into_iter().find(|name| !known(name)) {
            return mistake(format!("the file has no column \"{wrong}\"; it has {}", names(&found.columns)));
        }
        if key.len() != filling.places {
            return mistake(wrong_places(found, filling, key));
        }
        let (mut targets, mut left_out) = (Vec::<Target>::new(), Vec::new());
        // Those of the key first, in the order of their places.
        let order = key.iter().filter_map(|name| found.columns.iter().position(|column| column.name == *name));
        let others = (0..found.columns.len()).filter(|at| !key.contains(&found.columns[*at].name));
        for from in order.chain(others) {
            let file = &found.columns[from];
            let is_key = key.contains(&file.name);
            let told = pairs.iter().find(|(name, _)| *name == file.name).map_or(file.name.as_str(), |(_, to)| to);
            if told.is_empty() && is_key {
                return mistake(format!("{} is of the key and cannot be left out", file.name));
            }
            if told.is_empty() {
                left_out.push((file.name.clone(), "not wanted"));
                continue;
            }
            let told = if is_key { file.name.as_str() } else { told };
            if targets.iter().any(|target| target.column.name == told) {
                return mistake(format!("two columns would be \"{told}\"; --column FILE=FIELD gives one another name"));
            }
            let own = filling.own.iter().find(|own| own.name == told && !is_key);
            let column = Column {
                name: told.to_owned(),
                db_type: match is_key {
                    true => "in the name of the key".to_owned(),
                    false => file.db_type(false, dialect, found.language),
                },
                nullable: !is_key && own.is_none_or(|own| !own.is_needed),
                key: is_key,
                ..Column::default()
            };
            let kind = match own.map(|own| own.takes) {
                Some(Takes::Number) => Kind::Real,
                Some(Takes::Count) => Kind::Integer(1, i64::MAX.into()),
                // All is text in the end; what the file writes in another order or with other signs is read.
                _ if file.dates != Dates::Iso || file.numbers != Numbers::Plain => kind_of(file.of(found.language)),
                _ => Kind::Any,
            };
            let lists = file.lists_for(&Kind::Json, false);
            let (dates, numbers) = (file.dates, file.numbers);
            targets.push(Target { column, kind, from, dates, numbers, lists, loses: None });
        }
        let is_own =
            |target: &&Target| !target.column.key && filling.own.iter().any(|own| own.name == target.column.name);
        for own in filling.own.iter().filter(|own| own.is_needed) {
            if !targets.iter().any(|target| is_own(&target) && target.column.name == own.name) {
                let has = names(&found.columns);
                return mistake(format!(
                    "a {} needs a column \"{}\": the file has {has}; --column FILE={} gives one that name",
                    filling.element, own.name, own.name
                ));
            }
        }
        let is_value = |target: &Target| !target.column.key && !is_own(&target);
        // One that is called so is the one.
        if filling.one_value && targets.iter().any(|target| is_value(target) && target.column.name == VALUE) {
            let others = targets.extract_if(.., |target| is_value(target) && target.column.name != VALUE);
            left_out.extend(others.map(|target| (found.columns[target.from].name.clone(), "not the value")));
        }
        let values = targets.iter().filter(|target| is_value(target));
        let values = values.map(|target| target.column.name.as_str()).collect::<Vec<_>>();
        match (values.as_slice(), filling.one_value) {
            ([], _) => return mistake(format!("no column is left to be the value of a {}", filling.element)),
            ([_], true) | (_, false) => {}
            (several, true) => {
                let all = several.join(", ");
                let hint = format!("--column {}={VALUE} makes that one the value", several[0]);
                return mistake(format!("a {} is one value, and there are {all}; {hint}", filling.element));
            }
        }
        Ok(Matching { table: filling.written.clone(), targets, key: key.to_vec(), left_out, definition: None })
    }
}

fn names(columns: &[FoundColumn]) -> String {
    columns.iter().map(|column| column.name.as_str()).collect::<Vec<_>>().join(", ")
}

/// What is wrong where there are not as many columns of the key as their places in the name.
fn wrong_places(found: &Found, filling: &Filling, key: &[String]) -> String {
    let place = |places: usize| match places {
        0 => "no place".to_owned(),
        1 => "one place (*)".to_owned(),
        places => format!("{places} places (*)"),
    };
    let of_key = match key.len() {
        0 => "no column is named as the key".to_owned(),
        1 => format!("{} is the key", key[0]),
        _ => format!("{} are the key", key.join(", ")),
    };
    let proposed = Matching::proposed_key(found).filter(|_| key.is_empty() && filling.places == 1);
    let proposed = proposed.map(|key| format!(". Every value of {key} is different: --key {key} makes it the key"));
    let proposed = proposed.unwrap_or_default();
    format!("\"{}\" has {} for values of the key, and {of_key}{proposed}", filling.written, place(filling.places))
}
