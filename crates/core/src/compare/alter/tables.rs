//! Tables that change: by clauses of `ALTER TABLE`, or by a new one that takes the rows over.

use jaunty_language::dialect::{Change, Clauses, Dialect, Tables};
use jaunty_language::statement::definition::{PartKind, parts_of_table};
use jaunty_seam::catalog::{Column, Constraint, Object};

use super::{Alter, Statement, keeps};
use crate::catalog::templates::filled;
use crate::compare::Difference;
use crate::compare::differences::{ItemDiffers, PartDiffers};
use crate::compare::structure::{Item, Part, PartOf};

impl Alter<'_> {
    /// Adds a rule to a table: without a look at the rows that are there where they need not keep it on the right.
    pub(super) fn add_rule(&self, table: &str, theirs: &Object, name: &str, text: &str) -> String {
        let is_it = |rule: &&Constraint| rule.unchecked && rule.name == name && !name.is_empty();
        let copying = self.left.dialect.changing.and_then(|changing| changing.copying);
        let unchecked = theirs.constraints.iter().find(is_it).and(copying).map_or("", |copying| copying.unchecked);
        format!("alter table {table} {unchecked}add {text}")
    }

    /// A table's definition without its references, and those with their names.
    pub(super) fn without_references(&self, text: &str) -> Option<(String, Vec<(String, String)>)> {
        let (parts, name, tail) = parts_of_table(text, self.left.dialect)?;
        let (references, others): (Vec<_>, Vec<_>) =
            parts.into_iter().partition(|part| part.kind == PartKind::Reference);
        let others: Vec<String> = others.into_iter().map(|part| format!("    {}", part.text)).collect();
        let head = text.get(..name.end)?;
        let tail = if tail.is_empty() { tail } else { format!(" {tail}") };
        let bare = format!("{head} (\n{}\n){tail}", others.join(",\n"));
        Some((bare, references.into_iter().map(|part| (part.name, part.text)).collect()))
    }

    pub(super) fn drop_rule(&self, object: &Object, part: &Part) -> Option<String> {
        let Tables::Altered(clauses) = &self.altering.tables else { return None };
        Some(format!("alter table {} {}", self.name(object), drop_clause(clauses, part, self.left.dialect)?))
    }

    pub(super) fn table_alters(
        &mut self,
        clauses: &'static Clauses,
        differs: &ItemDiffers,
        ours: &Item,
        theirs: &Item,
    ) {
        let name = self.name(&ours.object);
        let dialect = self.left.dialect;
        let (mut altered, mut drops): (Vec<Altered>, bool) = (Vec::new(), false);
        let said = |text: String| format!("table {}: {text}", differs.name);
        for part in &differs.parts {
            let (old, new) = (part.left.map(|at| &ours.parts[at]), part.right.map(|at| &theirs.parts[at]));
            match part.of {
                PartOf::Table(PartKind::Column) => {
                    let (text, lost) = self.column(clauses, part, ours, theirs);
                    if text.is_empty() {
                        self.done.notes.push(said(format!("column {}: no statement can change this", part.name)));
                    }
                    altered.extend(text);
                    drops |= lost;
                }
                PartOf::Table(PartKind::Reference) => {
                    if let Some(text) = old.and_then(|old| self.drop_rule(&ours.object, old)) {
                        self.steps.references_go.push(keeps(text));
                    }
                    if let Some(new) = new {
                        let text = self.theirs(&new.text);
                        let add = self.add_rule(&name, &theirs.object, &new.name, &text);
                        self.steps.references_come.push(keeps(add));
                    }
                }
                PartOf::Table(_) => {
                    if let Some(old) = old {
                        match drop_clause(clauses, old, dialect) {
                            Some(clause) => altered.insert(0, Altered::Clause(clause)),
                            None => {
                                self.done.notes.push(said(format!("{} {}: drop it by hand", part.of.word(), part.name)))
                            }
                        }
                    }
                    if let Some(new) = new {
                        let text = self.theirs(&new.text);
                        altered.push(match clauses.change {
                            Change::Apart { .. } => {
                                Altered::Statement(self.add_rule(&name, &theirs.object, &new.name, &text))
                            }
                            _ => Altered::Clause(filled(clauses.add_rule, &[("TEXT", &text)])),
                        });
                    }
                }
                PartOf::Options => match new.filter(|_| matches!(clauses.change, Change::Whole(_))) {
                    Some(new) => altered.push(Altered::Clause(new.text.clone())),
                    None => self.done.notes.push(said("no statement can change its options".into())),
                },
                PartOf::Definition => self.done.notes.push(said("recreate it by hand".into())),
                PartOf::Order
                | PartOf::ValueOrder
                | PartOf::Index
                | PartOf::Trigger
                | PartOf::Belonging(_)
                | PartOf::Comment
                | PartOf::Value => {}
            }
        }
        let adds_last = clauses.place[0].is_empty();
        if order_after(differs, ours, theirs, adds_last) != names_of_columns(theirs) {
            self.done
                .notes
                .push(said("the order of its columns stays as it is: no statement can move a column".into()));
        }
        match clauses.change {
            Change::Apart { .. } => {
                for one in altered {
                    let (text, drops) = match one {
                        Altered::Statement(text) => (text, false),
                        Altered::Clause(clause) => {
                            (format!("alter table {name} {clause}"), clause.starts_with("drop column "))
                        }
                    };
                    self.steps.tables_come.push(Statement { text, loses: drops });
                }
            }
            _ if altered.is_empty() => {}
            _ => {
                let clauses: Vec<String> = altered.into_iter().map(Altered::text).collect();
                let text = format!("alter table {name}\n    {}", clauses.join(",\n    "));
                self.steps.tables_come.push(Statement { text, loses: drops });
            }
        }
        self.belongings_change(differs, ours, theirs);
    }

    /// What changes a column, and whether values are lost by it.
    fn column(&self, clauses: &Clauses, part: &PartDiffers, ours: &Item, theirs: &Item) -> (Vec<Altered>, bool) {
        if let Change::Apart { .. } = clauses.change {
            return self.column_apart(clauses, part, ours, theirs);
        }
        let (altered, lost) = self.column_at_once(clauses, part, ours, theirs);
        (altered.into_iter().map(Altered::Clause).collect(), lost)
    }

    /// The same where each change is a statement.
    fn column_apart(&self, clauses: &Clauses, part: &PartDiffers, ours: &Item, theirs: &Item) -> (Vec<Altered>, bool) {
        let Change::Apart { whole, no_default, default } = &clauses.change else { return (Vec::new(), false) };
        let dialect = self.left.dialect;
        let name = dialect.name_as_written(&part.name);
        let of = |item: &Item| item.object.columns.iter().find(|column| column.name == part.name).cloned();
        let (table, column) = (dialect.text_as_written(&self.name(&ours.object)), dialect.text_as_written(&part.name));
        let no_default = || Altered::Statement(filled(no_default, &[("TABLE_TEXT", &table), ("COLUMN_TEXT", &column)]));
        let text = part.right.map(|at| self.theirs(&theirs.parts[at].text)).unwrap_or_default();
        let add = || Altered::Clause(filled(clauses.add_column, &[("TEXT", &text)]));
        let gone = |old: &Column| {
            let drop = Altered::Clause(filled(clauses.drop_column, &[("NAME", &name)]));
            if old.default.is_some() { vec![no_default(), drop] } else { vec![drop] }
        };
        let (old, new) = match (of(ours), of(theirs)) {
            (Some(old), None) => return (gone(&old), true),
            (None, _) => return (vec![add()], false),
            (Some(old), Some(new)) => (old, new),
        };
        if old.is_given() != new.is_given() || (!old.is_given() && old.generated != new.generated) {
            let loses = old.is_given();
            return (gone(&old).into_iter().chain([add()]).collect(), loses);
        }
        // No statement numbers a column that is there, or ends that.
        if (&old.generated, &old.numbering, &old.more) != (&new.generated, &new.numbering, &new.more) {
            return (Vec::new(), false);
        }
        let retyped = old.declared_type() != new.declared_type() || old.nullable != new.nullable;
        let other_default = (&old.default, &old.default_name) != (&new.default, &new.default_name);
        let mut all = Vec::new();
        // A column with a default keeps its type.
        if old.default.is_some() && (retyped || other_default) {
            all.push(no_default());
        }
        let type_ = new.declared_type();
        if retyped {
            let nullness = if new.nullable { "null" } else { "not null" };
            let words = [("NAME", &*name), ("TYPE", &*type_), ("NULLNESS", nullness)];
            all.push(Altered::Clause(filled(whole, &words)));
        }
        if let Some(value) = new.default.as_deref().filter(|_| retyped || other_default) {
            let named = match new.default_name.as_str() {
                "" => String::new(),
                name => format!("constraint {} ", dialect.name_as_written(name)),
            };
            let words = [("NAMED", &*named), ("NAME", &*name), ("VALUE", value)];
            all.push(Altered::Clause(filled(default, &words)));
        }
        (all, false)
    }

    /// The same where all changes are clauses of one statement.
    fn column_at_once(&self, clauses: &Clauses, part: &PartDiffers, ours: &Item, theirs: &Item) -> (Vec<String>, bool) {
        let name = self.left.dialect.name_as_written(&part.name);
        let of = |item: &Item| item.object.columns.iter().find(|column| column.name == part.name).cloned();
        let drop = || filled(clauses.drop_column, &[("NAME", &name)]);
        let text = part.right.map(|at| self.theirs(&theirs.parts[at].text)).unwrap_or_default();
        let add = || {
            let columns: Vec<&Part> =
                theirs.parts.iter().filter(|part| part.of == PartOf::Table(PartKind::Column)).collect();
            let at = columns.iter().position(|column| column.name == part.name).unwrap_or_default();
            let place = match at.checked_sub(1).and_then(|at| columns.get(at)) {
                _ if at + 1 == columns.len() => String::new(),
                Some(before) => filled(clauses.place[1], &[("NAME", &self.left.dialect.name_as_written(&before.name))]),
                None => clauses.place[0].to_owned(),
            };
            format!("{}{place}", filled(clauses.add_column, &[("TEXT", &text)]))
        };
        match (part.what, &clauses.change) {
            (Difference::OnlyLeft, _) => (vec![drop()], true),
            (Difference::OnlyRight, _) => (vec![add()], false),
            (Difference::Changed, Change::Whole(template)) => (vec![filled(template, &[("TEXT", &text)])], false),
            (Difference::Changed, Change::Bits { plain, numbered }) => {
                let Some((old, new)) = of(ours).zip(of(theirs)) else { return (Vec::new(), false) };
                if old.generated == new.generated {
                    return (by_bits(&name, &old, &new, plain), false);
                }
                // A computed column cannot become one that is given values, nor the other way round.
                if !old.is_given() || !new.is_given() {
                    return (vec![drop(), add()], old.is_given());
                }
                let [set, gone, added] = numbered;
                let word = new.generated.as_deref().unwrap_or_default().trim_end_matches(" as identity");
                let words = [("NAME", name.as_str()), ("WORD", word)];
                let template = match (old.is_numbered(), new.is_numbered()) {
                    (true, true) => set,
                    (true, false) => gone,
                    _ => added,
                };
                let mut all = by_bits(&name, &old, &new, plain);
                // What is numbered has no default, and is not NULL.
                let at = if new.is_numbered() { all.len() } else { 0 };
                all.insert(at, filled(template, &words));
                (all, false)
            }
            // Each of these is a statement of its own.
            (Difference::Changed, Change::Apart { .. }) => (Vec::new(), false),
        }
    }

    pub(super) fn table_is_remade(&mut self, differs: &ItemDiffers, ours: &Item, theirs: &Item) {
        let name = self.name(&ours.object);
        let is_belonging = |part: &PartDiffers| {
            matches!(part.of, PartOf::Index | PartOf::Trigger | PartOf::Belonging(_) | PartOf::Comment)
        };
        let new: Vec<&PartDiffers> = differs.parts.iter().filter(|part| !is_belonging(part)).collect();
        let columns = names_of_columns;
        let added: Vec<&Part> = new.iter().filter_map(|part| theirs.parts.get(part.right?)).collect();
        let appended =
            new.iter().all(|part| part.of == PartOf::Table(PartKind::Column) && part.what == Difference::OnlyRight)
                && columns(theirs).starts_with(&columns(ours))
                && added.iter().all(|part| can_be_added(&part.text));
        if appended {
            let add = |part: &&Part| keeps(format!("alter table {name} add column {}", part.text));
            self.steps.tables_come.extend(added.iter().map(add));
            return self.belongings_change(differs, ours, theirs);
        }
        let temporary = self.whole(&ours.object.schema, &format!("{} as it will be", ours.object.name));
        let Some((_, at, _)) = parts_of_table(&theirs.definition, self.left.dialect) else {
            self.done.notes.push(format!("table {}: recreate it by hand", differs.name));
            return;
        };
        let [head, tail] =
            [theirs.definition.get(..at.start), theirs.definition.get(at.end..)].map(Option::unwrap_or_default);
        let given = |name: &&String| {
            theirs.object.columns.iter().find(|column| column.name == **name).is_some_and(Column::is_given)
        };
        let (ours_names, theirs_names) = (columns(ours), columns(theirs));
        let both: Vec<String> = theirs_names
            .iter()
            .filter(|name| ours_names.contains(name))
            .filter(given)
            .map(|name| self.left.dialect.name_as_written(name))
            .collect();
        let both = both.join(", ");
        let drops = ours_names.iter().any(|name| !theirs_names.contains(name));
        let plain = self.left.dialect.name_as_written(&ours.object.name);
        self.steps.is_remade = true;
        self.steps.tables_come.push(keeps(format!("{head}{temporary}{tail}")));
        if !both.is_empty() {
            self.steps.tables_come.push(keeps(format!("insert into {temporary} ({both})\nselect {both} from {name}")));
        }
        self.steps.tables_come.push(Statement { text: format!("drop table {name}"), loses: drops });
        self.steps.tables_come.push(keeps(format!("alter table {temporary} rename to {plain}")));
        self.belongings(theirs);
    }
}

/// What changes a table.
enum Altered {
    /// After `alter table` and its name.
    Clause(String),
    /// By itself.
    Statement(String),
}

impl Altered {
    fn text(self) -> String {
        match self {
            Altered::Clause(text) | Altered::Statement(text) => text,
        }
    }
}

fn names_of_columns(item: &Item) -> Vec<String> {
    let all = item.parts.iter().filter(|part| part.of == PartOf::Table(PartKind::Column));
    all.map(|part| part.name.clone()).collect()
}

/// The order in which the columns stand when those that are new were added: last, or each where it belongs.
fn order_after(differs: &ItemDiffers, ours: &Item, theirs: &Item, adds_last: bool) -> Vec<String> {
    let (ours, theirs) = (names_of_columns(ours), names_of_columns(theirs));
    let mut after: Vec<String> = ours.iter().filter(|name| theirs.contains(name)).cloned().collect();
    if !adds_last {
        // They come to stand where they belong if the others do.
        return if differs.parts.iter().any(|part| part.of == PartOf::Order) { after } else { theirs };
    }
    after.extend(theirs.iter().filter(|name| !ours.contains(name)).cloned());
    after
}

/// Changes of a column bit by bit.
fn by_bits(name: &str, old: &Column, new: &Column, bits: &[&str; 5]) -> Vec<String> {
    let [type_, no_default, default, not_null, null] = bits;
    let value = new.default.clone().unwrap_or_default();
    let type_of_new = new.declared_type();
    let words = [("NAME", name), ("TYPE", type_of_new.as_str()), ("VALUE", value.as_str())];
    let mut all = Vec::new();
    let retyped = old.declared_type() != type_of_new;
    // A default of the old type may not be one of the new.
    if old.default.is_some() && (new.default.is_none() || retyped) {
        all.push(filled(no_default, &words));
    }
    if retyped {
        all.push(filled(type_, &words));
    }
    if new.default.is_some() && (old.default != new.default || retyped) {
        all.push(filled(default, &words));
    }
    if old.nullable != new.nullable {
        all.push(filled(if new.nullable { null } else { not_null }, &words));
    }
    all
}

/// The clause that takes a rule away; none where it has no name to be called by.
fn drop_clause(clauses: &Clauses, part: &Part, dialect: &Dialect) -> Option<String> {
    let at = match part.of {
        PartOf::Table(PartKind::Primary) => 0,
        PartOf::Table(PartKind::Unique) => 1,
        PartOf::Table(PartKind::Reference) => 2,
        PartOf::Table(PartKind::Check) => 3,
        _ => 4,
    };
    let template = clauses.drop_rule[at];
    if template.is_empty() || template.contains("NAME") && part.name.is_empty() {
        return None;
    }
    Some(filled(template, &[("NAME", &dialect.name_as_written(&part.name))]))
}

/// Whether a column of this definition can be added to a table with rows:
/// <https://www.sqlite.org/lang_altertable.html#altertabaddcol>.
fn can_be_added(text: &str) -> bool {
    let upper = text.to_uppercase();
    let has = |word: &str| upper.split(|c: char| !c.is_alphanumeric() && c != '_').any(|found| found == word);
    let fixed = !has("DEFAULT") || !upper.contains("CURRENT_") && !upper.replace(' ', "").contains("DEFAULT(");
    !has("PRIMARY") && !has("UNIQUE") && !has("STORED") && fixed && (!upper.contains("NOT NULL") || has("DEFAULT"))
}
