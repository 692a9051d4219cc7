//! Into a table that is there, and into one that is made.

use jaunty_language::dialect::Dialect;
use jaunty_language::lexer::TokenKind;
use jaunty_language::statement::shape::words;
use jaunty_seam::catalog::{Catalog, Column, Object, ObjectKind};
use jaunty_seam::rows::shape::is_shape;

use super::{Matching, NewColumns, Target};
use crate::catalog::templates;
use crate::import::ImportError;
use crate::import::found::{Found, FoundColumn};
use crate::slip::Kind;

/// The type of a new column for shapes of another table, where the database has one: what an extension brings, not every one.
fn type_for_shapes(
    declared: &str,
    from: Option<&Dialect>,
    catalog: &Catalog,
    dialect: &'static Dialect,
) -> Option<String> {
    let changing = dialect.changing.filter(|_| from.is_some_and(|from| is_shape(declared, from)))?;
    let any = changing.types_of_shapes.first()?;
    let same = changing.types_of_shapes.iter().find(|known| known.eq_ignore_ascii_case(declared)).unwrap_or(any);
    let mut brought = catalog.usable(ObjectKind::Type).filter(|of| of.name == *same);
    match changing.shapes_are_bytes {
        true => Some((*same).to_owned()),
        false => brought.next().map(|of| templates::name(of, catalog, dialect)),
    }
}

/// A type as a person writes it: what else would be in a column's definition is not one.
fn one_type(text: &str, dialect: &'static Dialect) -> Result<String, ImportError> {
    let words = words(text, dialect, 0);
    let (mut depth, mut is_one) =
        (0, words.first().is_some_and(|word| matches!(word.kind, TokenKind::Word | TokenKind::QuotedName)));
    for word in &words {
        match word.kind {
            TokenKind::Punctuation(b'(' | b'[') => depth += 1,
            TokenKind::Punctuation(b')' | b']') => depth -= 1,
            TokenKind::Punctuation(b',') => is_one &= depth > 0,
            TokenKind::Semicolon => is_one = false,
            _ => {}
        }
        is_one &= depth >= 0;
    }
    match is_one && depth == 0 {
        true => Ok(text.trim().to_owned()),
        false => Err(ImportError::Mistake(format!("\"{text}\" is not a type, such as text or numeric(10, 2)"))),
    }
}

impl Matching {
    /// Into a table that is there: columns of the same name, but for letters' case; `pairs` (the file's, the table's)
    /// come first.
    pub fn into_table(
        found: &Found,
        table: &Object,
        pairs: &[(String, String)],
        catalog: &Catalog,
        dialect: &'static Dialect,
    ) -> Result<Matching, ImportError> {
        let mistake = |text: String| ImportError::Mistake(text);
        let of_table = |name: &str| {
            let exact = table.columns.iter().find(|column| column.name == name);
            exact.or_else(|| table.columns.iter().find(|column| column.name.eq_ignore_ascii_case(name)))
        };
        let names = || table.columns.iter().map(|column| column.name.as_str()).collect::<Vec<_>>().join(", ");
        let (mut targets, mut left_out) = (Vec::<Target>::new(), Vec::new());
        for (file, _) in pairs {
            if !found.columns.iter().any(|column| column.name == *file) {
                let all: Vec<_> = found.columns.iter().map(|column| column.name.as_str()).collect();
                return Err(mistake(format!("the file has no column \"{file}\"; it has {}", all.join(", "))));
            }
        }
        for (from, file) in found.columns.iter().enumerate() {
            let told = pairs.iter().find(|(name, _)| *name == file.name).map(|(_, to)| to.as_str());
            if told == Some("") {
                left_out.push((file.name.clone(), "not wanted"));
                continue;
            }
            let column = match (told, of_table(told.unwrap_or(&file.name))) {
                (None, Some(column)) if !column.is_given() => {
                    left_out.push((file.name.clone(), "computed by the server"));
                    continue;
                }
                (Some(_), Some(column)) if !column.is_given() => {
                    return Err(mistake(format!("{}: the server computes it, so nothing goes there", column.name)));
                }
                (_, Some(column)) => column,
                (Some(told), None) => {
                    return Err(mistake(format!("{} has no column \"{told}\"; it has {}", table.name, names())));
                }
                (None, None) => {
                    left_out.push((file.name.clone(), "no such column in the table"));
                    continue;
                }
            };
            if targets.iter().any(|target: &Target| target.column.name == column.name) {
                return Err(mistake(format!(
                    "two columns of the file go into \"{}\"; --column leaves one out",
                    column.name
                )));
            }
            let kind = Kind::of(column, catalog, dialect);
            let (dates, numbers) = (file.dates, file.numbers);
            let lists = file.lists_for(&kind, found.language.is_some_and(|of| of.name == dialect.name));
            targets.push(Target { column: column.clone(), kind, from, dates, numbers, lists, loses: None });
        }
        if targets.is_empty() {
            let all: Vec<_> = found.columns.iter().map(|column| column.name.as_str()).collect();
            return Err(mistake(format!(
                "no column of the file is one of {}: the file has {}, the table {}; --column FILE=TABLE says which goes where",
                table.name,
                all.join(", "),
                names()
            )));
        }
        let given = |column: &&Column| targets.iter().any(|target| target.column.name == column.name);
        let missing: Vec<_> = table
            .columns
            .iter()
            .filter(|column| {
                !given(column)
                    && !column.nullable
                    && column.default.is_none()
                    && column.generated.is_none()
                    && !column.key
            })
            .map(|column| column.name.as_str())
            .collect();
        if !missing.is_empty() {
            return Err(mistake(format!(
                "{} needs a value for {}, which the file does not have",
                table.name,
                missing.join(", ")
            )));
        }
        let schema = match table.schema.is_empty() {
            true => String::new(),
            false => format!("{}.", dialect.name_as_written(&table.schema)),
        };
        Ok(Matching {
            table: format!("{schema}{}", dialect.name_as_written(&table.name)),
            targets,
            key: table.primary_key().into_iter().map(str::to_owned).collect(),
            left_out,
            definition: None,
        })
    }

    /// Into a table that is made for it, of this name (with its schema where that is told).
    pub fn into_new(
        found: &Found,
        name: &str,
        columns: &NewColumns<'_>,
        catalog: &Catalog,
        dialect: &'static Dialect,
    ) -> Result<Matching, ImportError> {
        let NewColumns { key, pairs, types } = *columns;
        let written: Vec<_> = name.split('.').map(|part| dialect.name_as_written(part)).collect();
        let table = written.join(".");
        let named = pairs.iter().map(|(file, _)| (file, "")).chain(key.iter().map(|key| (key, " for the key")));
        let typed = types.iter().map(|(file, _)| (file, " to be given a type"));
        for (wrong, what) in named.chain(typed) {
            if !found.columns.iter().any(|column| column.name == *wrong) {
                return Err(ImportError::Mistake(format!("the file has no column \"{wrong}\"{what}")));
            }
        }
        let (mut targets, mut lines, mut left_out) = (Vec::<Target>::new(), Vec::new(), Vec::new());
        for (from, file) in found.columns.iter().enumerate() {
            let told = pairs.iter().find(|(name, _)| *name == file.name).map_or(file.name.as_str(), |(_, to)| to);
            if told.is_empty() {
                left_out.push((file.name.clone(), "not wanted"));
                continue;
            }
            if targets.iter().any(|target| target.column.name.eq_ignore_ascii_case(told)) {
                let what = format!("two columns would be \"{told}\"; --column FILE=TABLE gives one another name");
                return Err(ImportError::Mistake(what));
            }
            let is_key = key.contains(&file.name);
            let wanted = types.iter().find(|(name, _)| *name == file.name).map(|(_, wanted)| one_type(wanted, dialect));
            let of_shapes = type_for_shapes(&file.declared, found.language, catalog, dialect).filter(|_| !is_key);
            let usual = || file.db_type(is_key, dialect, found.language);
            let column = Column {
                name: told.to_owned(),
                db_type: wanted.transpose()?.or(of_shapes).unwrap_or_else(usual),
                nullable: !is_key,
                key: is_key,
                ..Column::default()
            };
            let not_null = if is_key { " not null" } else { "" };
            lines.push(format!("  {} {}{not_null}", dialect.name_as_written(&column.name), column.db_type));
            let kind = Kind::of(&column, catalog, dialect);
            let (dates, numbers) = (file.dates, file.numbers);
            let lists = file.lists_for(&kind, found.language.is_some_and(|of| of.name == dialect.name));
            targets.push(Target { column, kind, from, dates, numbers, lists, loses: None });
        }
        let key: Vec<String> =
            targets.iter().filter(|target| target.column.key).map(|t| t.column.name.clone()).collect();
        if !key.is_empty() {
            let names: Vec<_> = key.iter().map(|name| dialect.name_as_written(name)).collect();
            lines.push(format!("  primary key ({})", names.join(", ")));
        }
        let parts: Vec<&str> = name.split('.').collect();
        let own = || catalog.path.first().map_or("", String::as_str);
        let schema = parts.iter().rev().nth(1).map_or_else(own, |schema| *schema);
        let options = catalog.table_options.get(schema).map_or("", String::as_str);
        let definition = format!("create table {table} (\n{}\n){options}", lines.join(",\n"));
        Ok(Matching { table, targets, key, left_out, definition: Some(definition) })
    }

    /// The columns that could be the key of a new table: the first whose values are all there and all different.
    pub fn proposed_key(found: &Found) -> Option<&str> {
        let could = |column: &&FoundColumn| column.distinct && column.shape.longest <= 64;
        found.columns.iter().find(could).map(|column| column.name.as_str())
    }
}
