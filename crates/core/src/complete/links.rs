//! How two tables hang together: by the foreign keys that are declared, and, where there are none, by their names.

use crate::catalog::naming::{singular, snake_case};
use jaunty_seam::catalog::{Column, Name, Object};

/// Columns of one table that are equal to columns of another: at least one pair.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Link<'a> {
    pub here: Vec<&'a str>,
    pub there: Vec<&'a str>,
}

impl<'a> Link<'a> {
    pub(super) fn one(here: &'a str, there: &'a str) -> Link<'a> {
        Link { here: vec![here], there: vec![there] }
    }

    fn turned(self) -> Link<'a> {
        Link { here: self.there, there: self.here }
    }

    /// The condition of a join: `there.b = here.a and …`. The tables are named as the statement calls them, as it writes
    /// those names; columns are written by `written`.
    pub(super) fn condition(&self, here: &str, there: &str, and: &str, written: impl Fn(&str) -> String) -> String {
        let pair = |(a, b): (&&str, &&str)| format!("{there}.{} = {here}.{}", written(b), written(a));
        self.here.iter().zip(&self.there).map(pair).collect::<Vec<_>>().join(and)
    }
}

/// How many tables are looked through for names that suggest a join: of more, each key would be felt.
pub(super) const LOOKED_THROUGH: usize = 500;

/// Finds links between two tables.
pub(super) type Find = for<'a> fn(&'a Object, &'a Object) -> Vec<Link<'a>>;

/// The links that foreign keys of either table make.
pub(super) fn by_keys<'a>(here: &'a Object, there: &'a Object) -> Vec<Link<'a>> {
    let same = |object: &Object, name: &Name| {
        object.name.eq_ignore_ascii_case(&name.name) && object.schema.eq_ignore_ascii_case(&name.schema)
    };
    let link = |ours: &'a [String], theirs: &'a [String]| Link {
        here: ours.iter().map(String::as_str).collect(),
        there: theirs.iter().map(String::as_str).collect(),
    };
    let away = here.references().filter(|(_, to, _)| same(there, to)).map(|(ours, _, theirs)| link(ours, theirs));
    let back = there.references().filter(|(_, to, _)| same(here, to)).map(|(theirs, _, ours)| link(ours, theirs));
    // A reference to a key that is not known says no columns.
    away.chain(back).filter(|link| !link.here.is_empty() && !link.there.is_empty()).collect()
}

/// The links that names suggest, for databases that declare no foreign keys: a column that is called after the other
/// table and its key (`vessel_id`, `home_port`), else columns of one name that are the key of one of the two. A plain `id` of
/// both is none: that would join rows that have nothing to do with each other.
pub(super) fn by_names<'a>(here: &'a Object, there: &'a Object) -> Vec<Link<'a>> {
    let mut links = leading(here, there);
    links.extend(leading(there, here).into_iter().map(Link::turned));
    if links.is_empty() {
        links = of_one_name(here, there);
    }
    links
}

/// What tells that names are those of a key of any table, and say nothing of which.
const OF_ANY: [&str; 6] = ["id", "code", "name", "key", "uuid", "guid"];

/// Columns of `from` that are called after `to` and its key.
fn leading<'a>(from: &'a Object, to: &'a Object) -> Vec<Link<'a>> {
    let (Some(key), table) = (key_of(to), snake_case(&to.name)) else { return Vec::new() };
    let one = singular(&table).unwrap_or_else(|| table.clone());
    let name = snake_case(&key.name);
    let is_own = |base: &str| name.strip_prefix(base).is_some_and(|rest| rest.is_empty() || rest.starts_with('_'));
    let with_key = |base: &String| if is_own(base) { name.clone() } else { format!("{base}_{name}") };
    let wanted: Vec<String> = [&one, &table].iter().flat_map(|base| [with_key(base), (*base).clone()]).collect();
    let leads = |column: &&Column| {
        wanted.iter().any(|wanted| ends_with_words(&column.name, wanted)) && alike(&column.db_type, &key.db_type)
    };
    // A table's own key is called after it, too: it leads to another table only by another name.
    let own = (from.name == to.name && from.schema == to.schema).then_some(key.name.as_str());
    let columns = from.columns.iter().filter(|column| Some(column.name.as_str()) != own);
    columns.filter(leads).map(|column| Link::one(&column.name, &key.name)).collect()
}

/// Whether a name ends with these words, or is them: `homePort` and `HOME_PORT` with `port`, and `airport` not. The words are
/// in lower case with `_` between them. It makes nothing: all columns of a large catalog are asked at a key.
fn ends_with_words(name: &str, words: &str) -> bool {
    let is_gap = |c: char| matches!(c, '_' | '-');
    // The quick way first: nearly all end otherwise.
    let last = |text: &str| text.as_bytes().last().map(u8::to_ascii_lowercase).filter(u8::is_ascii_lowercase);
    if last(words).zip(last(name)).is_some_and(|(wanted, is)| wanted != is) {
        return false;
    }
    let lower = |c: char| if c.is_ascii() { Some(c.to_ascii_lowercase()) } else { c.to_lowercase().next() };
    let mut letters = name.char_indices().rev().filter(|(_, c)| !is_gap(*c));
    let mut first = None;
    for wanted in words.chars().rev().filter(|c| !is_gap(*c)) {
        first = letters.next().filter(|(_, c)| lower(*c) == Some(wanted));
        if first.is_none() {
            return false;
        }
    }
    let Some((at, first)) = first else { return false };
    let before = name.get(..at).and_then(|rest| rest.chars().next_back());
    before.is_none_or(|before| is_gap(before) || (first.is_uppercase() && !before.is_uppercase()))
}

/// Whether a name is these words, however it joins them; the words are in lower case.
fn is_called(name: &str, words: &str) -> bool {
    fn is_letter(c: &char) -> bool {
        !matches!(c, '_' | '-')
    }
    name.chars().filter(is_letter).flat_map(char::to_lowercase).eq(words.chars().filter(is_letter))
}

/// Columns that both have under one name, which is the key of one of them.
fn of_one_name<'a>(here: &'a Object, there: &'a Object) -> Vec<Link<'a>> {
    let keys = [key_of(here), key_of(there)];
    let is_key = |column: &Column| keys.iter().flatten().any(|key| key.name.eq_ignore_ascii_case(&column.name));
    let says_which = |column: &&Column| !OF_ANY.iter().any(|any| is_called(&column.name, any));
    let mut links = Vec::new();
    for ours in here.columns.iter().filter(|column| is_key(column)).filter(says_which) {
        let theirs = there.columns.iter().find(|theirs| theirs.name.eq_ignore_ascii_case(&ours.name));
        links.extend(
            theirs.filter(|theirs| alike(&ours.db_type, &theirs.db_type)).map(|t| Link::one(&ours.name, &t.name)),
        );
    }
    links
}

/// The one column that tells rows of a table apart: its key, and where none is declared the one that is called as keys are.
fn key_of(table: &Object) -> Option<&Column> {
    let declared = table.primary_key();
    match declared.as_slice() {
        [one] => table.columns.iter().find(|column| column.name == *one),
        [] => {
            let name = snake_case(&table.name);
            let own = format!("{}_id", singular(&name).unwrap_or(name));
            table.columns.iter().find(|column| is_called(&column.name, "id") || is_called(&column.name, &own))
        }
        _ => None,
    }
}

/// Whether values of two types could be equal, as far as their names tell: numbers, texts, UUIDs; anything else could.
fn alike(one: &str, other: &str) -> bool {
    let class = |db_type: &str| {
        let db_type = db_type.to_ascii_lowercase();
        let has = |words: &[&str]| words.iter().any(|word| db_type.contains(word));
        match () {
            () if has(&["uuid", "uniqueidentifier"]) => Some(0),
            // These have the letters of numbers in their names.
            () if has(&["interval", "point"]) => None,
            () if has(&["char", "text", "clob", "string"]) => Some(1),
            () if has(&["int", "serial", "numeric", "decimal", "number"]) => Some(2),
            () => None,
        }
    };
    match (class(one), class(other)) {
        (Some(one), Some(other)) => one == other,
        _ => true,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_seam::catalog::{Catalog, ObjectKind};

    fn table(name: &str, columns: &[(&str, &str)], key: &[&str]) -> Object {
        let mut catalog = Catalog::along(["main".to_owned()]);
        let object = catalog.object("main", name, ObjectKind::Table);
        for (column, db_type) in columns {
            object.columns.push(Column {
                name: (*column).to_owned(),
                db_type: (*db_type).to_owned(),
                key: key.contains(column),
                ..Column::default()
            });
        }
        object.clone()
    }

    fn told(here: &Object, there: &Object) -> Vec<String> {
        by_names(here, there).iter().map(|link| link.condition("a", "b", " and ", str::to_owned)).collect()
    }

    #[test]
    fn names_say_how_tables_hang_together() {
        let ports = table("ports", &[("id", "bigint"), ("code", "text"), ("name", "text")], &["id"]);
        let companies = table("companies", &[("company_id", "int"), ("name", "varchar(40)")], &["company_id"]);
        let vessels = table(
            "vessels",
            &[("id", "integer"), ("name", "text"), ("home_port", "int"), ("CompanyId", "int"), ("port_name", "text")],
            &[],
        );
        // By the table alone, and by the table and its key; a text is no number.
        assert_eq!(told(&vessels, &ports), ["b.id = a.home_port"]);
        assert_eq!(told(&ports, &vessels), ["b.home_port = a.id"]);
        assert_eq!(told(&vessels, &companies), ["b.company_id = a.CompanyId"]);
        // Two plain keys have nothing to do with each other.
        let crew = table("crew", &[("id", "int"), ("name", "text")], &["id"]);
        assert_eq!(told(&ports, &crew), [""; 0]);
        // Both ends of a route.
        let routes = table("routes", &[("id", "int"), ("from_port_id", "int"), ("to_port_id", "int")], &["id"]);
        assert_eq!(told(&routes, &ports), ["b.id = a.from_port_id", "b.id = a.to_port_id"]);
        // A key that is not called after its table, in both.
        let hulls = table("hulls", &[("imo", "char(7)"), ("built", "int")], &["imo"]);
        let calls = table("calls", &[("at", "timestamp"), ("IMO", "char(7)")], &[]);
        assert_eq!(told(&calls, &hulls), ["b.imo = a.IMO"]);
        // A table with itself, by another name than its key's.
        let staff = table("staff", &[("staff_id", "int"), ("chief_staff_id", "int")], &["staff_id"]);
        assert_eq!(told(&staff, &staff), ["b.staff_id = a.chief_staff_id", "b.chief_staff_id = a.staff_id"]);
        // Keys of several columns say nothing.
        let legs = table("legs", &[("route_id", "int"), ("leg", "int")], &["route_id", "leg"]);
        let stops = table("stops", &[("leg_id", "int")], &[]);
        assert_eq!(told(&stops, &legs), [""; 0]);
    }

    #[test]
    fn words_at_the_end_of_a_name() {
        for (name, words) in [
            ("port", "port"),
            ("PORT", "port"),
            ("home_port", "port"),
            ("HOME_PORT", "port"),
            ("homePort", "port"),
            ("HomePortId", "port_id"),
            ("homeportid", "homeport_id"),
            ("from-port-id", "port_id"),
            ("heimathäfen_ID", "heimathäfen_id"),
        ] {
            assert!(ends_with_words(name, words), "{name} {words}");
        }
        for (name, words) in
            [("airport", "port"), ("AIRPORT", "port"), ("port_name", "port"), ("", "port"), ("id", "port_id")]
        {
            assert!(!ends_with_words(name, words), "{name} {words}");
        }
    }
}
