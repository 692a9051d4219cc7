//! Databases, their collections and indexes, all in memory.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use super::bson;
use super::failure::Failure;
use super::matching::{self, has_operators};
use super::scope::Scope;
use super::value::{Document, Value, document, field};

/// All collections, by database and name. A copy shares what it holds until one of the two changes.
#[derive(Clone, Default)]
pub struct Store {
    collections: BTreeMap<(String, String), Arc<Collection>>,
}

/// Documents with a number each, in the order in which they came.
#[derive(Clone, Default)]
pub struct Collection {
    documents: BTreeMap<u64, Arc<Document>>,
    next: u64,
    pub indexes: Vec<Index>,
    /// How it was made.
    pub options: Document,
}

/// An index.
#[derive(Clone)]
pub struct Index {
    pub name: String,
    pub keys: Document,
    /// What else it was made with.
    pub options: Document,
    entries: BTreeMap<Vec<Value>, BTreeSet<u64>>,
    /// How often it was used; shared by copies.
    pub uses: Arc<AtomicU64>,
}

/// How documents are found.
pub struct Plan {
    /// The index, and what its first key is looked for with.
    pub index: Option<(String, Document, Value)>,
    /// The numbers of the documents to look at.
    pub numbers: Vec<u64>,
    pub keys_examined: u64,
}

impl Store {
    pub fn collection(&self, database: &str, name: &str) -> Option<&Collection> {
        self.collections.get(&(database.to_owned(), name.to_owned())).map(|found| &**found)
    }

    pub fn shared(&self, database: &str, name: &str) -> Option<Arc<Collection>> {
        self.collections.get(&(database.to_owned(), name.to_owned())).cloned()
    }

    /// A collection to be changed, made if it is not there.
    pub fn make(&mut self, database: &str, name: &str) -> &mut Collection {
        let key = (database.to_owned(), name.to_owned());
        Arc::make_mut(self.collections.entry(key).or_insert_with(|| Arc::new(Collection::new(Document::new()))))
    }

    pub fn put(&mut self, database: &str, name: &str, collection: Collection) {
        self.collections.insert((database.to_owned(), name.to_owned()), Arc::new(collection));
    }

    pub fn remove(&mut self, database: &str, name: &str) -> Option<Arc<Collection>> {
        self.collections.remove(&(database.to_owned(), name.to_owned()))
    }

    pub fn remove_database(&mut self, database: &str) {
        self.collections.retain(|(own, _), _| own != database);
    }

    /// Puts what was changed since `base` into `into`; nothing where others have changed the same collections meanwhile.
    pub fn commit(&self, base: &Store, into: &mut Store) -> Result<(), Failure> {
        let same = |left: Option<&Arc<Collection>>, right: Option<&Arc<Collection>>| match (left, right) {
            (Some(left), Some(right)) => Arc::ptr_eq(left, right),
            (left, right) => left.is_none() && right.is_none(),
        };
        let keys: BTreeSet<_> = self.collections.keys().chain(base.collections.keys()).collect();
        let changed: Vec<_> =
            keys.into_iter().filter(|key| !same(self.collections.get(*key), base.collections.get(*key))).collect();
        if changed.iter().any(|key| !same(into.collections.get(*key), base.collections.get(*key))) {
            let mut failure = Failure::new(
                112,
                "WriteConflict",
                "WriteConflict error: this operation conflicted with another operation. Please retry your operation or multi-document transaction.",
            );
            let labels = Value::Array(vec![Value::text("TransientTransactionError")]);
            failure.more = document([("errorLabels", labels)]);
            return Err(failure);
        }
        for key in changed {
            match self.collections.get(key) {
                Some(own) => drop(into.collections.insert(key.clone(), Arc::clone(own))),
                None => drop(into.collections.remove(key)),
            }
        }
        Ok(())
    }

    pub fn databases(&self) -> BTreeSet<&str> {
        self.collections.keys().map(|(database, _)| database.as_str()).collect()
    }

    pub fn of_database<'a>(&'a self, database: &'a str) -> impl Iterator<Item = (&'a str, &'a Collection)> {
        let own = self.collections.iter().filter(move |((own, _), _)| own == database);
        own.map(|((_, name), collection)| (name.as_str(), &**collection))
    }
}

impl Collection {
    pub fn new(options: Document) -> Collection {
        let mut collection = Collection { options, ..Collection::default() };
        if collection.view().is_none() {
            collection.indexes.push(Index::new("_id_", document([("_id", Value::Int(1))]), Document::new()));
        }
        collection
    }

    /// What a view shows, and how.
    pub fn view(&self) -> Option<(String, Vec<Value>)> {
        let on = field(&self.options, "viewOn")?.as_text()?;
        let pipeline = field(&self.options, "pipeline").and_then(Value::as_array).unwrap_or_default();
        Some((on.to_owned(), pipeline.to_vec()))
    }

    /// `collection`, `view` or `timeseries`.
    pub fn kind(&self) -> &'static str {
        match () {
            () if self.view().is_some() => "view",
            () if field(&self.options, "timeseries").is_some() => "timeseries",
            () => "collection",
        }
    }

    pub fn len(&self) -> usize {
        self.documents.len()
    }

    pub fn all(&self) -> impl Iterator<Item = &Arc<Document>> {
        self.documents.values()
    }

    pub fn at(&self, number: u64) -> Option<&Arc<Document>> {
        self.documents.get(&number)
    }

    /// The paths of the indexes of a kind, such as `2dsphere`.
    pub fn paths_of(&self, kind: &[&str]) -> Vec<String> {
        let keys = self.indexes.iter().flat_map(|index| &index.keys);
        keys.filter(|(_, how)| how.as_text().is_some_and(|how| kind.contains(&how)))
            .map(|(path, _)| path.clone())
            .collect()
    }

    fn validated(&self, document: &[(String, Value)], scope: &Scope<'_>) -> Result<(), Failure> {
        let warns = field(&self.options, "validationAction").and_then(Value::as_text) == Some("warn");
        let Some(Value::Document(validator)) = field(&self.options, "validator").filter(|_| !warns) else {
            return Ok(());
        };
        if matching::fits(validator, document, scope)? {
            return Ok(());
        }
        Err(Failure::new(121, "DocumentValidationFailure", "Document failed validation"))
    }

    fn refuse_doubles(&self, of: &Document, beside: Option<u64>, namespace: &str) -> Result<(), Failure> {
        for index in self.indexes.iter().filter(|index| index.is_unique()) {
            for key in index.keys_of(of) {
                let other =
                    index.entries.get(&key).is_some_and(|numbers| numbers.iter().any(|own| Some(*own) != beside));
                if other {
                    let values: Document = index.keys.iter().map(|(path, _)| path.clone()).zip(key).collect();
                    let shown: Vec<String> =
                        values.iter().map(|(path, value)| format!("{path}: {}", shown(value))).collect();
                    let what = format!(
                        "E11000 duplicate key error collection: {namespace} index: {} dup key: {{ {} }}",
                        index.name,
                        shown.join(", ")
                    );
                    let mut failure = Failure::new(11000, "DuplicateKey", what);
                    failure.more = document([
                        ("keyPattern", Value::Document(index.keys.clone())),
                        ("keyValue", Value::Document(values)),
                    ]);
                    return Err(failure);
                }
            }
        }
        Ok(())
    }

    /// Adds a document.
    pub fn insert(&mut self, mut made: Document, namespace: &str, scope: &Scope<'_>) -> Result<Value, Failure> {
        let id = match field(&made, "_id") {
            Some(id) => id.clone(),
            None => {
                let id = Value::ObjectId(new_id(scope.now));
                made.insert(0, ("_id".to_owned(), id.clone()));
                id
            }
        };
        self.validated(&made, scope)?;
        self.refuse_doubles(&made, None, namespace)?;
        self.next += 1;
        let number = self.next;
        for index in &mut self.indexes {
            index.add(&made, number);
        }
        self.documents.insert(number, Arc::new(made));
        let most =
            field(&self.options, "max").and_then(Value::as_i64).filter(|_| field(&self.options, "capped").is_some());
        while most.is_some_and(|most| self.documents.len() as i64 > most) {
            let Some(oldest) = self.documents.keys().next().copied() else { break };
            self.remove(oldest);
        }
        Ok(id)
    }

    /// Puts a document in the place of another. Whether it is another.
    pub fn replace(
        &mut self,
        number: u64,
        made: Document,
        namespace: &str,
        scope: &Scope<'_>,
    ) -> Result<bool, Failure> {
        let Some(own) = self.documents.get(&number).cloned() else { return Ok(false) };
        // Byte by byte: a number of another type is equal, and another value.
        let bytes = |document: &Document| {
            let mut bytes = Vec::new();
            bson::write(document, &mut bytes);
            bytes
        };
        if bytes(&own) == bytes(&made) {
            return Ok(false);
        }
        self.validated(&made, scope)?;
        self.refuse_doubles(&made, Some(number), namespace)?;
        for index in &mut self.indexes {
            index.forget(&own, number);
            index.add(&made, number);
        }
        self.documents.insert(number, Arc::new(made));
        Ok(true)
    }

    pub fn remove(&mut self, number: u64) -> Option<Arc<Document>> {
        let own = self.documents.remove(&number)?;
        for index in &mut self.indexes {
            index.forget(&own, number);
        }
        Some(own)
    }

    /// Adds an index, filled.
    pub fn add_index(&mut self, mut index: Index, namespace: &str) -> Result<(), Failure> {
        for (number, document) in &self.documents {
            index.add(document, *number);
        }
        if index.is_unique()
            && let Some((key, _)) = index.entries.iter().find(|(_, numbers)| numbers.len() > 1)
        {
            let key: Vec<String> = key.iter().map(shown).collect();
            let what = format!(
                "Index build failed: E11000 duplicate key error collection: {namespace} index: {} dup key: {{ {} }}",
                index.name,
                key.join(", ")
            );
            return Err(Failure::new(11000, "DuplicateKey", what));
        }
        self.indexes.push(index);
        Ok(())
    }

    /// How the documents of a filter are found.
    pub fn plan(&self, filter: &[(String, Value)]) -> Plan {
        let mut conditions = Vec::new();
        gather(filter, &mut conditions);
        for index in &self.indexes {
            let Some((first, _)) = index.keys.first().filter(|_| index.is_plain()) else { continue };
            for (_, wanted) in conditions.iter().filter(|(path, _)| path == first) {
                if let Some((numbers, keys_examined)) = index.look_up(wanted) {
                    index.uses.fetch_add(1, Ordering::Relaxed);
                    let index = Some((index.name.clone(), index.keys.clone(), (*wanted).clone()));
                    return Plan { index, numbers, keys_examined };
                }
            }
        }
        Plan { index: None, numbers: self.documents.keys().copied().collect(), keys_examined: 0 }
    }
}

/// The conditions of a filter that all have to hold.
fn gather<'a>(filter: &'a [(String, Value)], into: &mut Vec<(&'a str, &'a Value)>) {
    for (name, wanted) in filter {
        match (name.as_str(), wanted) {
            ("$and", Value::Array(all)) => all.iter().filter_map(Value::as_document).for_each(|one| gather(one, into)),
            (path, wanted) if !path.starts_with('$') => into.push((path, wanted)),
            _ => {}
        }
    }
}

/// A value in a message.
fn shown(value: &Value) -> String {
    match value {
        Value::Text(text) => format!("{text:?}"),
        Value::ObjectId(id) => {
            format!("ObjectId('{}')", id.iter().map(|byte| format!("{byte:02x}")).collect::<String>())
        }
        Value::Null => "null".to_owned(),
        other => other
            .as_i64()
            .map(|value| value.to_string())
            .or(other.as_f64().map(|value| value.to_string()))
            .unwrap_or_else(|| format!("a value of type {}", other.kind())),
    }
}

/// An ObjectId: seconds, and what nobody else has.
fn new_id(now: i64) -> [u8; 12] {
    static NEXT: AtomicU64 = AtomicU64::new(1);
    let mut id = [0; 12];
    id[..4].copy_from_slice(&((now / 1000) as u32).to_be_bytes());
    id[4..8].copy_from_slice(&std::process::id().to_be_bytes());
    id[8..].copy_from_slice(&(NEXT.fetch_add(1, Ordering::Relaxed) as u32).to_be_bytes());
    id
}

impl Index {
    pub fn new(name: &str, keys: Document, options: Document) -> Index {
        Index { name: name.to_owned(), keys, options, entries: BTreeMap::new(), uses: Arc::default() }
    }

    fn has(&self, option: &str) -> bool {
        field(&self.options, option).is_some_and(Value::holds)
    }

    fn is_unique(&self) -> bool {
        self.name == "_id_" || self.has("unique")
    }

    /// Whether it holds every document by the order of its values.
    fn is_plain(&self) -> bool {
        self.keys.iter().all(|(_, way)| way.as_i64().is_some_and(|way| way.abs() == 1))
            && !self.has("sparse")
            && !self.has("hidden")
            && field(&self.options, "partialFilterExpression").is_none()
    }

    /// The keys of a document: several where one of its values is a list.
    fn keys_of(&self, document: &Document) -> Vec<Vec<Value>> {
        let partial = field(&self.options, "partialFilterExpression").and_then(Value::as_document);
        let missing = |path: &str| matching::at(document, path).iter().all(Option::is_none);
        if self.has("sparse") && self.keys.iter().all(|(path, _)| missing(path)) {
            return Vec::new();
        }
        if let Some(partial) = partial {
            let (store, ended) = (Store::default(), std::sync::atomic::AtomicBool::new(false));
            let scope = Scope::bare(&store, "", &ended);
            if !matching::fits(partial, document, &scope).unwrap_or(false) {
                return Vec::new();
            }
        }
        let mut keys = vec![Vec::new()];
        for (path, _) in &self.keys {
            let mut values: Vec<Value> = Vec::new();
            for found in matching::at(document, path) {
                match found {
                    Some(Value::Array(inside)) if !inside.is_empty() => values.extend(inside.iter().cloned()),
                    found => values.push(found.cloned().unwrap_or(Value::Null)),
                }
            }
            values.sort();
            values.dedup();
            keys = keys
                .iter()
                .flat_map(|key: &Vec<Value>| {
                    values.iter().map(|value| key.iter().chain([value]).cloned().collect()).collect::<Vec<Vec<Value>>>()
                })
                .collect();
        }
        keys
    }

    fn add(&mut self, document: &Document, number: u64) {
        for key in self.keys_of(document) {
            self.entries.entry(key).or_default().insert(number);
        }
    }

    fn forget(&mut self, document: &Document, number: u64) {
        for key in self.keys_of(document) {
            if let Some(numbers) = self.entries.get_mut(&key) {
                numbers.remove(&number);
                if numbers.is_empty() {
                    self.entries.remove(&key);
                }
            }
        }
    }

    /// The numbers that may fit a condition on the first key, and how many keys that took; nothing where it is no help.
    fn look_up(&self, wanted: &Value) -> Option<(Vec<u64>, u64)> {
        let mut numbers = BTreeSet::new();
        let mut examined = 0;
        let mut from = |low: Value, last: &dyn Fn(&Value) -> bool| {
            for (key, own) in self.entries.range(vec![low]..) {
                if !key.first().is_some_and(last) {
                    break;
                }
                examined += 1;
                numbers.extend(own);
            }
        };
        match wanted {
            Value::Document(operators) if has_operators(operators) => {
                let of = |name: &str| field(operators, name);
                if let Some(value) = of("$eq") {
                    from(value.clone(), &|own| own == value);
                } else if let Some(Value::Array(values)) = of("$in") {
                    if values.iter().any(|value| matches!(value, Value::Regex(..))) {
                        return None;
                    }
                    values.iter().for_each(|value| from(value.clone(), &|own| own == value));
                } else if let Some(low) = of("$gte").or(of("$gt")) {
                    from(low.clone(), &|own| own.is_like(low));
                } else if let Some(high) = of("$lte").or(of("$lt")) {
                    from(Value::MinKey, &|own| own <= high);
                } else {
                    return None;
                }
            }
            Value::Regex(..) => return None,
            value => from(value.clone(), &|own| own == value),
        }
        Some((numbers.into_iter().collect(), examined))
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::AtomicBool;

    use super::*;

    fn things() -> Collection {
        let (store, ended) = (Store::default(), AtomicBool::new(false));
        let scope = Scope::bare(&store, "ferry", &ended);
        let mut things = Collection::new(Document::new());
        for n in 0..20 {
            let tags = vec![Value::text(if n % 2 == 0 { "even" } else { "odd" }), Value::Int(n)];
            let made = document([("_id", Value::Int(n)), ("n", Value::Int(n % 5)), ("tags", Value::Array(tags))]);
            things.insert(made, "ferry.things", &scope).unwrap();
        }
        things
    }

    fn index(path: &str, options: Document) -> Index {
        Index::new(&format!("{path}_1"), document([(path, Value::Int(1))]), options)
    }

    #[test]
    fn an_index_finds_what_a_search_of_all_does() {
        let mut things = things();
        for path in ["n", "tags"] {
            things.add_index(index(path, Document::new()), "ferry.things").unwrap();
        }
        let operator = |name: &str, value: Value| Value::Document(document([(name, value)]));
        for (path, wanted, found, examined) in [
            ("_id", Value::Int(7), 1, 1),
            ("n", Value::Int(3), 4, 1),
            ("n", operator("$gte", Value::Int(3)), 8, 2),
            ("n", operator("$lt", Value::Int(2)), 12, 3),
            ("n", operator("$in", Value::Array(vec![Value::Int(0), Value::Int(9)])), 4, 1),
            ("tags", Value::text("odd"), 10, 1),
            ("missing", Value::Int(1), 20, 0),
        ] {
            let plan = things.plan(&document([(path, wanted.clone())]));
            assert_eq!((plan.numbers.len(), plan.keys_examined), (found, examined), "{path} {wanted:?}");
        }
        things.remove(4);
        assert_eq!(things.plan(&document([("n", Value::Int(3))])).numbers.len(), 3);
    }

    #[test]
    fn unique_sparse_and_partial() {
        let (store, ended) = (Store::default(), AtomicBool::new(false));
        let scope = Scope::bare(&store, "ferry", &ended);
        let flag = |name: &str| document([(name, Value::Bool(true))]);
        let mut things = things();
        assert_eq!(things.add_index(index("n", flag("unique")), "ferry.things").unwrap_err().code, 11000);
        let mut only = flag("unique");
        let some = document([("n", Value::Document(document([("$gt", Value::Int(100))])))]);
        only.push(("partialFilterExpression".to_owned(), Value::Document(some)));
        things.add_index(index("n", only), "ferry.things").unwrap();
        let made = |id: i32, n: i32| document([("_id", Value::Int(id)), ("n", Value::Int(n))]);
        things.insert(made(50, 200), "ferry.things", &scope).unwrap();
        assert_eq!(things.insert(made(51, 200), "ferry.things", &scope).unwrap_err().code, 11000);
        things.insert(made(52, 1), "ferry.things", &scope).unwrap();
        // What holds only some is no help for all.
        assert!(things.plan(&document([("n", Value::Int(1))])).index.is_none());
        let mut sparse = flag("sparse");
        sparse.extend(flag("unique"));
        things.add_index(index("code", sparse), "ferry.things").unwrap();
        assert_eq!(things.insert(made(50, 3), "ferry.things", &scope).unwrap_err().message.matches("_id_").count(), 1);
    }

    #[test]
    fn what_is_changed_in_a_copy_stays_there_until_it_is_committed() {
        let mut base = Store::default();
        base.put("ferry", "things", things());
        let mut copy = base.clone();
        copy.make("ferry", "things").remove(1);
        copy.remove("ferry", "nothing");
        assert_eq!(base.collection("ferry", "things").unwrap().len(), 20);
        let before = base.clone();
        copy.commit(&before, &mut base).unwrap();
        assert_eq!(base.collection("ferry", "things").unwrap().len(), 19);
        // Somebody else was there meanwhile.
        let mut late = before.clone();
        late.make("ferry", "things").remove(2);
        assert_eq!(late.commit(&before, &mut base).unwrap_err().code, 112);
    }
}
