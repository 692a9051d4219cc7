//! What a database holds: the model that completion, help, problems and the catalog view read.
//!
//! Engines fill it part by part ([`crate::engine::Session::catalog`]); everybody else shares one that no longer
//! changes.

mod names;
mod object;

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use serde::{Deserialize, Serialize};

pub use names::Names;
pub use object::{
    Belonging, BelongingKind, Column, Constraint, DOMAIN, Index, Name, Object, ObjectKind, Rule, Trigger,
};

use jaunty_language::dialect::Dialect;
use jaunty_language::statement::Written;

/// All that is known of what a database holds.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Catalog {
    objects: Vec<Object>,
    /// The database that holds it; empty where names do not say one.
    pub database: String,
    /// The databases of the server.
    pub databases: Vec<String>,
    /// What other databases hold that names of this server's language reach into, by their names, as far as anybody
    /// asked ([`Catalog::not_read`]).
    #[serde(skip)]
    pub others: BTreeMap<String, Arc<Catalog>>,
    /// The schemas that plain names are looked up in, in order.
    pub path: Vec<String>,
    /// Functions, procedures and types that the server itself and its extensions bring, for completion and help. They are
    /// not what the database is made of: it is read, copied and compared without them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub brought: Vec<Object>,
    /// Names of tables that only this session has, in lower case, where the server does not list them: nothing is
    /// known of a table with such a name, whatever others have under it.
    #[serde(skip)]
    pub temporary: BTreeSet<String>,
    /// What the definition of a new table needs after its columns so that they hold any text, by schema; none where the
    /// schema's own defaults do.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub table_options: BTreeMap<String, String>,
    /// When it was read, in milliseconds since 1970.
    pub read_ms: u64,
    /// Why some of it is missing, if so.
    pub missing: Option<String>,
    /// Places in `objects` by the lower-case name.
    #[serde(skip)]
    by_name: HashMap<String, Vec<u32>>,
    /// Which objects point at an object with a foreign key, by its place.
    #[serde(skip)]
    pointing: HashMap<u32, Vec<u32>>,
    /// The different names of columns.
    #[serde(skip)]
    columns: Names,
    #[serde(skip)]
    names: Names,
}

impl Catalog {
    /// An empty one whose plain names are looked up in these schemas.
    pub fn along(path: impl IntoIterator<Item = String>) -> Catalog {
        Catalog { path: path.into_iter().collect(), ..Catalog::default() }
    }

    /// An empty one of another database than the one in hand.
    pub fn of_database(database: String) -> Catalog {
        Catalog { database, ..Catalog::default() }
    }

    /// Adds an object, or gives back the one of that name and kind which is there.
    pub fn object(&mut self, schema: &str, name: &str, kind: ObjectKind) -> &mut Object {
        let key = name.to_lowercase();
        let places = self.by_name.entry(key).or_default();
        let objects = &self.objects;
        let same = |at: &&u32| {
            objects.get(**at as usize).is_some_and(|o| o.name == name && o.schema == schema && o.kind == kind)
        };
        let at = match places.iter().find(same) {
            Some(at) => *at as usize,
            None => {
                places.push(self.objects.len() as u32);
                self.objects.push(Object { schema: schema.into(), name: name.into(), kind, ..Object::default() });
                self.objects.len() - 1
            }
        };
        // It was found or made just above.
        &mut self.objects[at]
    }

    /// Adds one even if there is one of that name: functions differ in what they take.
    pub fn push(&mut self, object: Object) {
        self.by_name.entry(object.name.to_lowercase()).or_default().push(self.objects.len() as u32);
        self.objects.push(object);
    }

    /// What has rows, of this schema and name.
    pub fn relation_mut(&mut self, schema: &str, name: &str) -> Option<&mut Object> {
        self.found_mut(schema, name, ObjectKind::has_rows)
    }

    /// The object of exactly this name that has rows, or is a sequence.
    pub fn holder_mut(&mut self, schema: &str, name: &str) -> Option<&mut Object> {
        self.found_mut(schema, name, |kind| kind.has_rows() || kind == ObjectKind::Sequence)
    }

    /// The function or procedure of exactly this name, where names are not given twice.
    pub fn routine_mut(&mut self, schema: &str, name: &str, of: ObjectKind) -> Option<&mut Object> {
        self.found_mut(schema, name, |kind| kind == of)
    }

    fn found_mut(&mut self, schema: &str, name: &str, is_meant: impl Fn(ObjectKind) -> bool) -> Option<&mut Object> {
        let places = self.by_name.get(&name.to_lowercase())?;
        let objects = &self.objects;
        let is = |at: &&u32| {
            objects.get(**at as usize).is_some_and(|o| o.name == name && o.schema == schema && is_meant(o.kind))
        };
        let at = *places.iter().find(is)?;
        self.objects.get_mut(at as usize)
    }

    /// Call it once all is there: prepares what makes finding quick, and notes the time.
    pub fn complete(&mut self) {
        self.read_ms = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_millis() as u64;
        self.prepare();
    }

    /// Finds what a view reads from in its definition, for a server that does not tell.
    pub fn find_uses(&mut self, dialect: &'static Dialect) {
        use jaunty_language::statement::shape::{Origin, Shape, words};
        let mut found = Vec::new();
        for (at, view) in self.objects.iter().enumerate().filter(|(_, o)| o.kind == ObjectKind::View) {
            let shape = Shape::of(words(&view.definition, dialect, 0));
            let sources = shape.queries.iter().flat_map(|query| &query.sources);
            let own = Written { text: view.schema.clone(), quoted: true };
            let named = sources.filter_map(|source| match &source.origin {
                Origin::Named(path) => {
                    let schema = path.len().checked_sub(2).and_then(|at| path.get(at));
                    self.find_relation(Some(schema.unwrap_or(&own)), path.last()?, dialect).map(Object::to_name)
                }
                _ => None,
            });
            let mut uses: Vec<Name> = named.collect();
            uses.sort();
            uses.dedup();
            found.push((at, uses));
        }
        for (at, uses) in found {
            if let Some(view) = self.objects.get_mut(at) {
                view.uses = uses;
            }
        }
    }

    /// Prepares what makes finding quick; for a catalog that was read from a file.
    pub fn prepare(&mut self) {
        self.by_name.clear();
        for (at, object) in self.objects.iter().enumerate() {
            self.by_name.entry(object.name.to_lowercase()).or_default().push(at as u32);
        }
        self.pointing.clear();
        for (at, object) in self.objects.iter().enumerate() {
            for (_, to, _) in object.references() {
                if let Some(there) = self.place_of(to) {
                    let pointing = self.pointing.entry(there).or_default();
                    // One that points twice is named once.
                    if pointing.last() != Some(&(at as u32)) {
                        pointing.push(at as u32);
                    }
                }
            }
        }
        let relations = self.objects.iter().filter(|o| o.kind.has_rows());
        self.columns = Names::of(relations.flat_map(|o| o.columns.iter().map(|c| c.name.as_str())));
        self.names = Names::of(self.objects.iter().map(|o| o.name.as_str()));
    }

    fn place_of(&self, name: &Name) -> Option<u32> {
        let places = self.by_name.get(&name.name.to_lowercase())?;
        let is = |at: &&u32| {
            self.objects.get(**at as usize).is_some_and(|o| {
                o.kind.has_rows()
                    && o.name.eq_ignore_ascii_case(&name.name)
                    && o.schema.eq_ignore_ascii_case(&name.schema)
            })
        };
        places.iter().find(is).copied()
    }

    /// All objects.
    pub fn objects(&self) -> &[Object] {
        &self.objects
    }

    /// The relation of exactly this name.
    pub fn relation(&self, name: &Name) -> Option<&Object> {
        self.objects.get(self.place_of(name)? as usize)
    }

    /// The objects that a name in a statement could mean, those of the search path first.
    pub fn find(&self, schema: Option<&Written>, name: &Written, dialect: &Dialect) -> Vec<&Object> {
        let meant =
            |o: &&Object| name.means(&o.name, dialect) && schema.is_none_or(|schema| schema.means(&o.schema, dialect));
        let mut found: Vec<_> = self.named(&name.text.to_lowercase()).filter(meant).collect();
        found.sort_by_key(|o| self.distance(&o.schema));
        found
    }

    /// The table or view that a name in a statement means: without a schema, one of the search path.
    pub fn find_relation(&self, schema: Option<&Written>, name: &Written, dialect: &Dialect) -> Option<&Object> {
        if self.temporary.contains(&name.text.to_lowercase()) {
            return None;
        }
        let in_reach = |o: &&Object| o.kind.has_rows() && (schema.is_some() || self.is_in_path(&o.schema));
        self.find(schema, name, dialect).into_iter().find(in_reach)
    }

    /// The table or view of this database that a name with what it lies in means, from the outermost. One of another
    /// database is none of this one, whatever it is called.
    pub fn relation_at(&self, path: &[Written], dialect: &Dialect) -> Option<&Object> {
        let (schema, name) = match path {
            [name] => (None, name),
            [schema, name] => (Some(schema), name),
            [database, schema, name] if database.means(&self.database, dialect) => (Some(schema), name),
            _ => return None,
        };
        self.find_relation(schema.filter(|schema| !schema.text.is_empty()), name, dialect)
    }

    /// The table or view that a name of three parts means in another database, and what else is there.
    pub fn relation_elsewhere(&self, path: &[Written], dialect: &Dialect) -> Option<(&Catalog, &Object)> {
        let [database, schema_and_name @ ..] = path else { return None };
        let there = self.other(database, dialect).filter(|_| schema_and_name.len() == 2)?;
        Some((there, there.relation_at(schema_and_name, dialect)?))
    }

    /// What another database holds, as far as it was read.
    pub fn other(&self, database: &Written, dialect: &Dialect) -> Option<&Catalog> {
        self.others.iter().find(|(name, _)| database.means(name, dialect)).map(|(_, there)| &**there)
    }

    /// The database that a name means which is another one and was not read yet, as the server writes it.
    pub fn not_read(&self, name: &Written, dialect: &Dialect) -> Option<&str> {
        let means = |known: &str| name.means(known, dialect);
        let other = self.databases.iter().find(|known| means(known)).filter(|known| **known != self.database)?;
        (!self.others.contains_key(other)).then_some(other)
    }

    /// How far from hand a schema is: its place in the search path.
    pub fn distance(&self, schema: &str) -> usize {
        self.path.iter().position(|s| s == schema).unwrap_or(if schema.is_empty() { 0 } else { self.path.len() })
    }

    /// Whether plain names reach into a schema.
    pub fn is_in_path(&self, schema: &str) -> bool {
        schema.is_empty() || self.path.iter().any(|s| s == schema)
    }

    /// The tables with a foreign key to this one.
    pub fn pointing_at<'a>(&'a self, name: &Name) -> impl Iterator<Item = &'a Object> + use<'a> {
        let places = self.place_of(name).and_then(|at| self.pointing.get(&at));
        places.into_iter().flatten().filter_map(|at| self.objects.get(*at as usize))
    }

    /// The views that read from this one.
    pub fn reading(&self, name: &Name) -> impl Iterator<Item = &Object> {
        self.objects.iter().filter(move |o| o.uses.contains(name))
    }

    /// The schemas, those of the search path first.
    pub fn schemas(&self) -> Vec<&str> {
        // Few schemas, very many objects: those are told apart before anything is sorted.
        let of_objects = self.objects.iter().map(|object| object.schema.as_str()).filter(|schema| !schema.is_empty());
        let different: HashSet<&str> = of_objects.chain(self.path.iter().map(String::as_str)).collect();
        let mut all: Vec<&str> = different.into_iter().collect();
        all.sort_unstable();
        all.sort_by_key(|schema| self.distance(schema));
        all
    }

    /// The different names of all columns.
    pub fn column_names(&self) -> &Names {
        &self.columns
    }

    /// The different names of all objects.
    pub fn object_names(&self) -> &Names {
        &self.names
    }

    /// The objects of a lower-case name.
    pub fn named<'a>(&'a self, lower: &str) -> impl Iterator<Item = &'a Object> + use<'a> {
        self.by_name.get(lower).into_iter().flatten().filter_map(|at| self.objects.get(*at as usize))
    }

    /// All of a kind that can be called or is a type, those of the server and its extensions last.
    pub fn usable(&self, kind: ObjectKind) -> impl Iterator<Item = &Object> {
        self.objects.iter().chain(&self.brought).filter(move |object| object.kind == kind)
    }

    /// The functions and procedures of a lower-case name, those of the server and its extensions last.
    pub fn routines_named<'a, 'n>(&'a self, lower: &'n str) -> impl Iterator<Item = &'a Object> + use<'a, 'n> {
        let brought = self.brought.iter().filter(move |object| object.name.eq_ignore_ascii_case(lower));
        self.named(lower).chain(brought).filter(|object| object.kind.is_routine())
    }

    /// How long ago it was read.
    pub fn age(&self, now: SystemTime) -> Duration {
        let then = UNIX_EPOCH + Duration::from_millis(self.read_ms);
        now.duration_since(then).unwrap_or_default()
    }
}
