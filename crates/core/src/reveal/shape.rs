//! An object in lines, section by section, as a catalog view and a listing show it.

use crate::catalog::templates;
use crate::complete::about::column_line;
use jaunty_language::dialect::{Dialect, Family};
use jaunty_language::text::{clean, numbers};
use jaunty_seam::catalog::{BelongingKind, Catalog, Index, Name, Object, ObjectKind, Rule};

/// A line about an object.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    /// The section that it belongs to.
    pub section: &'static str,
    /// What it says.
    pub text: String,
    /// The object that it leads to.
    pub leads_to: Option<Name>,
}

/// Everything about an object but its definition, which may take asking the server.
pub fn lines(object: &Object, catalog: &Catalog, dialect: &Dialect) -> Vec<Line> {
    let of_documents = dialect.family == Family::Documents;
    let mut all = Vec::new();
    let mut put = |section: &'static str, text: String, leads_to: Option<Name>| {
        all.push(Line { section, text, leads_to });
    };
    if !object.comment.is_empty() {
        let section = if object.kind == ObjectKind::Keys { "expiry" } else { "comment" };
        put(section, object.comment.clone(), None);
    }
    if let Some(rows) = object.rows {
        let what = match (object.kind, rows) {
            (ObjectKind::Keys, 1) => "key",
            (ObjectKind::Keys, _) => "keys",
            _ if of_documents && rows == 1 => "document",
            _ if of_documents => "documents",
            (_, 1) => "row (estimate)",
            _ => "rows (estimate)",
        };
        let bytes = object.bytes.map(|bytes| format!(" · {}", numbers::bytes(bytes))).unwrap_or_default();
        put("size", format!("{} {what}{bytes}", numbers::grouped(rows)), None);
    }
    if !object.clauses.is_empty() && !of_documents && object.kind.has_rows() {
        put("options", object.clauses.clone(), None);
    }
    if !object.signature.is_empty() {
        let section = match object.kind {
            ObjectKind::Keys => "type",
            _ if of_documents => "kind",
            _ => "signature",
        };
        put(section, object.signature.clone(), None);
    }
    let width = object.columns.iter().map(|column| clean::width(&column.name)).max().unwrap_or(0).min(40);
    for column in &object.columns {
        let leads_to = object.references().find(|(ours, ..)| ours.contains(&column.name)).map(|(_, to, _)| to.clone());
        // Types stand below each other.
        let line = column_line(column, object, catalog);
        let behind = line.get(column.name.len()..).unwrap_or_default();
        let gap = width.saturating_sub(clean::width(&column.name));
        put(
            if of_documents { "fields" } else { "columns" },
            format!("{}{}{behind}", column.name, " ".repeat(gap)),
            leads_to,
        );
    }
    for value in &object.values {
        put("values", format!("'{value}'"), None);
    }
    for rule in &object.constraints {
        let section = match rule.rule {
            Rule::Primary | Rule::Unique => "keys",
            Rule::Foreign { .. } => "references",
            Rule::Check(_) | Rule::Exclude(_) => "checks",
        };
        let leads_to = match &rule.rule {
            Rule::Foreign { to, .. } => Some(to.clone()),
            _ => None,
        };
        put(section, templates::constraint(rule, object, catalog, dialect), leads_to);
    }
    let name = object.to_name();
    for other in catalog.pointing_at(&name) {
        for (ours, _, theirs) in
            other.references().filter(|(_, to, _)| to.name == name.name && to.schema == name.schema)
        {
            let text =
                format!("{} ({}) by {}", templates::name(other, catalog, dialect), ours.join(", "), theirs.join(", "));
            put("referenced by", text, Some(other.to_name()));
        }
    }
    for index in &object.indexes {
        let unique = if index.unique { "unique · " } else { "" };
        put("indexes", format!("{}  {unique}{}", index.name, over(index)), None);
    }
    for trigger in &object.triggers {
        put("triggers", format!("{}  {}", trigger.name, trigger.when), None);
    }
    for belonging in &object.belongings {
        let section = match belonging.kind {
            BelongingKind::Setting | BelongingKind::Mark | BelongingKind::State => "settings",
            BelongingKind::Parent => "part of",
            BelongingKind::Statistics => "statistics",
            BelongingKind::Comment => "comments",
            BelongingKind::Security => "row security",
            BelongingKind::Policy => "policies",
            BelongingKind::Rule => "rules",
            BelongingKind::Owner | BelongingKind::Grant => "access",
        };
        let name = if belonging.name.is_empty() { belonging.kind.word() } else { &belonging.name };
        let text = format!("{name}  {}", belonging.shown(&dialect.name_as_written(&object.name)));
        put(section, text, belonging.to.clone());
    }
    let parts = catalog.objects().iter().filter(|part| part.kind.has_rows() && part.parents().any(|of| *of == name));
    for part in parts {
        let section = if part.is_partition() { "partitions" } else { "inherited by" };
        let bound = part.belongings.iter().find(|it| it.kind == BelongingKind::Parent && it.to.as_ref() == Some(&name));
        let bound = bound.filter(|_| part.is_partition());
        let bound = bound.map(|it| format!("  {}", it.shown(&dialect.name_as_written(&part.name)))).unwrap_or_default();
        put(section, format!("{}{bound}", templates::name(part, catalog, dialect)), Some(part.to_name()));
    }
    for used in &object.uses {
        let text = catalog.relation(used).map_or(used.name.clone(), |object| templates::name(object, catalog, dialect));
        let section = if object.kind.has_rows() { "reads from" } else { "needs" };
        put(section, text, Some(used.clone()));
    }
    for view in catalog.reading(&name) {
        put("used by", templates::name(view, catalog, dialect), Some(view.to_name()));
    }
    // Sections in the order in which each begins; the lines of one stand together.
    let mut order: Vec<&str> = Vec::new();
    for line in &all {
        if !order.contains(&line.section) {
            order.push(line.section);
        }
    }
    all.sort_by_key(|line| order.iter().position(|section| *section == line.section));
    all
}

/// What an index is over, with its order, its method and its condition, as far as its definition says them.
fn over(index: &Index) -> String {
    let told = || {
        let (_, on) = index.definition.split_once(" ON ").or_else(|| index.definition.split_once(" on "))?;
        let (method, rest) = match on.split_once(" USING ") {
            Some((_, using)) => using.split_once(' ')?,
            None => ("", on),
        };
        let list = rest.get(rest.find('(')?..)?;
        let (inside, more) = parenthesised(list)?;
        let method = Some(method).filter(|method| !["", "btree"].contains(method));
        let more = Some(more.trim()).filter(|more| !more.is_empty());
        let all = [Some(inside.trim()), method, more].into_iter().flatten();
        Some(all.map(|part| part.split_whitespace().collect::<Vec<_>>().join(" ")).collect::<Vec<_>>().join(" · "))
    };
    // Where a note says it, it is not said twice.
    match index.note.is_empty() {
        true => told().unwrap_or_else(|| index.over.join(", ")),
        false => format!("{} · {}", index.over.join(", "), index.note),
    }
}

/// What stands between the parenthesis at the beginning and the one that closes it, and what comes after.
fn parenthesised(text: &str) -> Option<(&str, &str)> {
    let (mut depth, mut quote) = (0_usize, None);
    for (at, byte) in text.bytes().enumerate() {
        match (quote, byte) {
            (Some(open), byte) if open == byte => quote = None,
            (Some(_), _) => {}
            (None, b'\'' | b'"' | b'`') => quote = Some(byte),
            (None, b'(') => depth += 1,
            (None, b')') => {
                depth = depth.checked_sub(1)?;
                if depth == 0 {
                    return Some((text.get(1..at)?, text.get(at + 1..)?));
                }
            }
            _ => {}
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::complete::tests::saltmarsh;
    use jaunty_language::dialect::POSTGRES;

    #[test]
    fn a_table_says_what_leads_where() {
        let catalog = saltmarsh();
        let sailings = catalog.objects().iter().find(|o| o.name == "sailings").unwrap();
        let shown: Vec<_> = lines(sailings, &catalog, &POSTGRES)
            .into_iter()
            .map(|line| {
                format!("{} | {} | {}", line.section, line.text, line.leads_to.map_or("".into(), |name| name.name))
            })
            .collect();
        insta::assert_snapshot!(shown.join("\n"));
    }

    #[test]
    fn an_index_says_its_order_its_method_and_its_condition() {
        let of = |definition: &str, note: &str| {
            over(&Index {
                name: "by_day".into(),
                over: vec!["day".into()],
                unique: false,
                definition: definition.into(),
                note: note.into(),
            })
        };
        assert_eq!(of("CREATE INDEX by_day ON quay.log USING btree (day DESC, \"to)\")", ""), "day DESC, \"to)\"");
        assert_eq!(
            of("CREATE INDEX by_day ON log USING gin (day) WHERE (a > f(1))", ""),
            "day · gin · WHERE (a > f(1))"
        );
        assert_eq!(
            of("CREATE INDEX by_day ON log USING btree (lower(day)) INCLUDE (a)", ""),
            "lower(day) · INCLUDE (a)"
        );
        assert_eq!(of("create index by_day on log (day  desc)\n  where a", ""), "day desc · where a");
        assert_eq!(of("create index by_day on log (day", ""), "day");
        assert_eq!(of("KEY `by_day` (`day`)", ""), "day");
        assert_eq!(of("create index by_day on log (day desc)", "clustered"), "day · clustered");
    }

    #[test]
    fn names_are_written_as_the_dialect_needs() {
        let catalog = saltmarsh();
        let ports = catalog.objects().iter().find(|o| o.name == "crew").unwrap();
        let mut odd = ports.clone();
        odd.constraints = vec![jaunty_seam::catalog::Constraint::new("", vec!["order".into()], Rule::Unique)];
        let key =
            |dialect| lines(&odd, &catalog, dialect).into_iter().find(|line| line.section == "keys").unwrap().text;
        assert_eq!(key(&jaunty_language::dialect::MYSQL), "unique (`order`)");
        assert_eq!(key(&POSTGRES), "unique (\"order\")");
    }
}
