//! Statements that change an object, with places, from what its language says of altering.

use jaunty_language::dialect::{Change, Clauses, Dialect, Tables};
use jaunty_language::edit::snippet::unfilled_place;
use jaunty_seam::catalog::{Catalog, Object, ObjectKind};

use super::templates::{Template, filled, table_name};

pub(super) const ADD_COLUMN: Template = Template {
    title: "add column",
    make: |object, catalog, dialect| {
        let text = format!("{} {}", unfilled_place(1, "column"), unfilled_place(2, "type"));
        // Also where tables are made anew for all other changes.
        let clause = clauses(object, dialect).map_or("add column TEXT", |clauses| clauses.add_column);
        altered(object, catalog, dialect, &filled(clause, &[("TEXT", &text)]))
    },
};

pub(super) const CHANGE_COLUMN: Template = Template {
    title: "change column",
    make: |object, catalog, dialect| {
        let (name, new_type) = (unfilled_place(1, "column"), unfilled_place(2, "type"));
        let text = format!("{name} {new_type}");
        let clause = match &clauses(object, dialect)?.change {
            Change::Whole(whole) => filled(whole, &[("TEXT", &text)]),
            // How values are converted is for a person to say.
            Change::Bits { plain: [changed, ..], .. } => {
                let changed = changed.split_once(" using ").map_or(*changed, |(before, _)| before);
                filled(changed, &[("NAME", &name), ("TYPE", &new_type)])
            }
            Change::Apart { whole, .. } => {
                filled(whole, &[("NAME", &name), ("TYPE", &new_type), ("NULLNESS", &unfilled_place(3, "null"))])
            }
        };
        altered(object, catalog, dialect, &clause)
    },
};

pub(super) const DROP_COLUMN: Template = Template {
    title: "drop column",
    make: |object, catalog, dialect| {
        let clause = clauses(object, dialect).map_or("drop column NAME", |clauses| clauses.drop_column);
        altered(object, catalog, dialect, &filled(clause, &[("NAME", &unfilled_place(1, "column"))]))
    },
};

pub(super) const ADD_REFERENCE: Template = Template {
    title: "add foreign key",
    make: |object, catalog, dialect| {
        let [column, table, key] = [(1, "column"), (2, "table"), (3, "key")].map(|(at, name)| unfilled_place(at, name));
        let text = format!("foreign key ({column}) references {table} ({key})");
        let clause = clauses(object, dialect)?.add_rule;
        altered(object, catalog, dialect, &filled(clause, &[("TEXT", &text)]))
    },
};

pub(super) const ADD_VALUE: Template = Template {
    title: "add value",
    make: |object, catalog, dialect| {
        let add = dialect.altering.map(|altering| altering.add_value).filter(|add| !add.is_empty())?;
        let is_enum = object.kind == ObjectKind::Type && !object.values.is_empty();
        let words = [("NAME", &*table_name(object, catalog, dialect)), ("TEXT", &unfilled_place(1, "'value'"))];
        is_enum.then(|| filled(add, &words))
    },
};

pub(super) const REFRESH: Template = Template {
    title: "refresh",
    make: |object, catalog, dialect| {
        let is_kept = object.kind == ObjectKind::MaterialisedView;
        is_kept.then(|| format!("refresh materialized view {}", table_name(object, catalog, dialect)))
    },
};

/// The clauses by which a table is altered; none where it is made anew, or is no table.
fn clauses(object: &Object, dialect: &Dialect) -> Option<&'static Clauses> {
    match dialect.altering?.tables {
        Tables::Altered(clauses) if object.kind == ObjectKind::Table => Some(clauses),
        _ => None,
    }
}

fn altered(object: &Object, catalog: &Catalog, dialect: &Dialect, clause: &str) -> Option<String> {
    let is_table = object.kind == ObjectKind::Table && dialect.altering.is_some();
    is_table.then(|| format!("alter table {} {clause}", table_name(object, catalog, dialect)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::templates::of;
    use jaunty_language::dialect::{MYSQL, POSTGRES, SQLITE, SQLSERVER};
    use jaunty_language::edit::snippet::Snippet;

    /// What is offered for an object, by its titles.
    fn offered(kind: ObjectKind, dialect: &Dialect, title: &str) -> Option<String> {
        let mut catalog = Catalog::along(["public".to_owned()]);
        let object = catalog.object("public", "ports", kind);
        object.columns = vec![jaunty_seam::catalog::Column { name: "id".into(), ..Default::default() }];
        object.values = if kind == ObjectKind::Type { vec!["calm".into()] } else { Vec::new() };
        let object = catalog.objects().first()?;
        let template = of(dialect).iter().find(|template| template.title == title)?;
        (template.make)(object, &catalog, dialect).map(|written| Snippet::plain(&written))
    }

    #[test]
    fn tables_are_altered_as_their_language_does() {
        let table = |dialect, title| offered(ObjectKind::Table, dialect, title);
        for (dialect, title, wanted) in [
            (&POSTGRES, "change column", Some("alter table ports alter column ‹column› type ‹type›")),
            (&MYSQL, "change column", Some("alter table ports modify column ‹column› ‹type›")),
            (&SQLSERVER, "change column", Some("alter table ports alter column ‹column› ‹type› ‹null›")),
            (&SQLSERVER, "add column", Some("alter table ports add ‹column› ‹type›")),
            (&SQLITE, "add column", Some("alter table ports add column ‹column› ‹type›")),
            (&SQLITE, "drop column", Some("alter table ports drop column ‹column›")),
            // There is no statement for it.
            (&SQLITE, "change column", None),
            (&SQLITE, "add foreign key", None),
            (
                &MYSQL,
                "add foreign key",
                Some("alter table ports add foreign key (‹column›) references ‹table› (‹key›)"),
            ),
        ] {
            assert_eq!(table(dialect, title).as_deref(), wanted, "{} {title}", dialect.name);
        }
        assert_eq!(offered(ObjectKind::View, &POSTGRES, "add column"), None);
    }

    #[test]
    fn other_objects_have_changes_of_their_own() {
        let of = |kind, title| offered(kind, &POSTGRES, title);
        let kept = ObjectKind::MaterialisedView;
        assert_eq!(of(kept, "refresh").as_deref(), Some("refresh materialized view ports"));
        for title in ["insert", "update by key", "delete by key", "add column"] {
            assert_eq!(of(kept, title), None, "no statement writes it: {title}");
        }
        assert!(of(ObjectKind::View, "insert").is_some() && of(ObjectKind::View, "refresh").is_none());
        assert_eq!(of(ObjectKind::Type, "add value").as_deref(), Some("alter type ports add value ‹'value'›"));
        assert_eq!(offered(ObjectKind::Type, &MYSQL, "add value"), None);
    }
}
