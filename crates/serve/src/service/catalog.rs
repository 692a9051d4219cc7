//! What a database holds: listed, described and drawn.

use std::path::Path;

use jaunty_core::catalog::templates;
use jaunty_core::complete::rank::fit;
use jaunty_core::drawing::layout::layout;
use jaunty_core::drawing::save::{Paper, save};
use jaunty_core::drawing::{Chosen, paint, tables};
use jaunty_core::import::preview::{near, relation};
use jaunty_core::reveal::shape::lines;
use jaunty_language::dialect::Dialect;
use jaunty_seam::catalog::{Catalog, Object};
use serde_json::{Value, json};

use super::given::{Given, failed, flag, number, text};
use super::{Outcome, Service};
use crate::wire::Refusal;

impl Service {
    pub(super) fn catalog_objects(&self, given: &Given) -> Outcome {
        let session = self.session(text(given, "connection"))?;
        let catalog = session.catalog(flag(given, "refresh"))?;
        let (like, schema) = (text(given, "like"), text(given, "schema"));
        let wanted = |object: &&Object| {
            (schema.is_empty() || object.schema == schema) && (like.is_empty() || fit(like, &object.name).is_some())
        };
        let one = |object: &Object| {
            json!({
                "schema": object.schema, "name": object.name, "kind": object.kind_word(), "rows": object.rows,
                "bytes": object.bytes, "comment": object.comment,
            })
        };
        Ok(catalog.objects().iter().filter(wanted).map(one).collect())
    }

    pub(super) fn catalog_object(&self, given: &Given) -> Outcome {
        let session = self.session(text(given, "connection"))?;
        let catalog = session.catalog(flag(given, "refresh"))?;
        let dialect = session.engine.dialect();
        let object = find_object(&catalog, dialect, text(given, "schema"), text(given, "name"))?;
        let columns: Value = object
            .columns
            .iter()
            .map(|column| json!({"name": column.name, "type": column.db_type, "nullable": column.nullable, "key": column.key}))
            .collect();
        let shape: Value = lines(object, &catalog, dialect)
            .iter()
            .map(|line| json!({"section": line.section, "text": line.text}))
            .collect();
        let definition = session.definition(object).or_else(|| templates::definition(object, &catalog, dialect));
        Ok(json!({
            "schema": object.schema, "name": object.name, "kind": object.kind_word(), "columns": columns,
            "shape": shape, "definition": definition,
        }))
    }

    pub(super) fn catalog_draw(&self, given: &Given) -> Outcome {
        let session = self.session(text(given, "connection"))?;
        let path = Path::new(text(given, "path"));
        let paper = paper_of(path)?;
        let catalog = session.catalog(flag(given, "refresh"))?;
        let (schema, name) = (text(given, "schema"), text(given, "table"));
        let which = if name.is_empty() {
            let own = catalog.path.iter().find(|schema| catalog.objects().iter().any(|o| o.schema == **schema));
            let first = || catalog.schemas().first().map(|schema| (*schema).to_owned());
            let wanted = Some(schema.to_owned()).filter(|schema| !schema.is_empty());
            Chosen::Schema(wanted.or(own.cloned()).or_else(first).unwrap_or_default())
        } else {
            let depth = usize::try_from(number(given, "depth").unwrap_or(1)).unwrap_or(usize::MAX).min(20);
            Chosen::Around(find_object(&catalog, session.engine.dialect(), schema, name)?.to_name(), depth)
        };
        let tables = tables(&catalog, &which);
        if tables.is_empty() {
            return Err(Refusal::failed("there are no tables to draw"));
        }
        save(paint::scene(&tables, &layout(&tables), &session.profile.name), path, paper).map_err(failed)?;
        Ok(json!({"tables": tables.len()}))
    }
}

/// An object by its name: in this schema, or in the one that names are looked up in first. Capitals only count where
/// there are names that differ by nothing else.
fn find_object<'a>(catalog: &'a Catalog, dialect: &Dialect, schema: &str, name: &str) -> Result<&'a Object, Refusal> {
    let find = |is: &dyn Fn(&str) -> bool| {
        let named = catalog.objects().iter().filter(|object| is(&object.name));
        let wanted = named.filter(|object| schema.is_empty() || object.schema == schema);
        wanted.min_by_key(|object| catalog.distance(&object.schema))
    };
    let lower = name.to_lowercase();
    let whole = find(&|own| own == name).or_else(|| find(&|own| own.to_lowercase() == lower));
    // With its schema, as it stands in statements.
    let with_schema = || relation(name, catalog, dialect).filter(|_| schema.is_empty());
    whole.or_else(with_schema).ok_or_else(|| {
        let near = near(name, catalog).map(|near| format!("; did you mean {near}?")).unwrap_or_default();
        Refusal::failed(format!("nothing is named {name}{near}"))
    })
}

/// What a drawing is written as.
pub(super) fn paper_of(path: &Path) -> Result<Paper, Refusal> {
    Paper::of(path).ok_or_else(|| Refusal::params("path has to end in .svg or .pdf"))
}
