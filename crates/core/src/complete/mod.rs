//! What could be written next.
//!
//! [`context`] looks at the statement and the cursor once; [`parse`] and [`scope`] are what it looks
//! with. Each completer is then a short function of the context that pushes proposals, and [`rank`]
//! says how well each fits what has been typed. Nothing here waits: all it reads is in memory.

pub mod about;
mod columns;
mod commands;
pub mod context;
mod definitions;
pub(crate) mod documents;
mod keywords;
mod links;
pub mod names;
mod place;
pub mod rank;
pub mod region;
pub mod rewrite;
pub mod scope;
pub mod snippets;
mod tables;
mod values;

use std::collections::HashSet;
use std::ops::Range;

use context::{Context, Place};

pub use context::Surroundings;
use jaunty_language::dialect::Family;
use jaunty_language::edit::snippet::escaped;
pub(crate) use jaunty_language::statement::shape;
pub use tables::not_read;

use jaunty_language::lexer::TokenKind;
use jaunty_seam::catalog::ObjectKind;

/// What a proposal is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Kind {
    /// Something with rows, or another object of the catalog.
    Object(ObjectKind),
    /// A schema or database.
    Schema,
    /// A column.
    Column,
    /// Another name of a table, given in this statement.
    Alias,
    /// A common table expression.
    Cte,
    /// A function of the server.
    Function,
    /// A keyword.
    Keyword,
    /// A join, or the condition of one, from a foreign key.
    Join,
    /// A list of columns, whole.
    List,
    /// A value.
    Value,
    /// A type.
    Type,
    /// A snippet.
    Snippet,
    /// A key of a store of keys.
    Key,
    /// A word that stands elsewhere in the text.
    Word,
}

impl Kind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Object(kind) => kind.word(),
            Kind::Schema => "schema",
            Kind::Column => "column",
            Kind::Alias => "alias",
            Kind::Cte => "with",
            Kind::Function => "function",
            Kind::Keyword => "keyword",
            Kind::Join => "join",
            Kind::List => "list",
            Kind::Value => "value",
            Kind::Type => "type",
            Kind::Snippet => "snippet",
            Kind::Key => "key",
            Kind::Word => "word",
        }
    }
}

/// One thing that could be written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proposal {
    /// What is shown.
    pub label: String,
    /// What it is.
    pub kind: Kind,
    /// What is shown beside it: a type, a table, a signature.
    pub detail: String,
    /// What is put in, with places in the notation of [`jaunty_language::edit::snippet`].
    pub insert: String,
    /// How well it fits: more is better.
    pub rank: i32,
}

/// What could be written at a cursor.
#[derive(Debug, Clone, Default)]
pub struct Completion {
    /// The bytes that a proposal takes the place of.
    pub replace: Range<usize>,
    /// Proposals, the best first.
    pub proposals: Vec<Proposal>,
    /// Whether they are worth showing before anything was typed: what can stand here is one of a few.
    pub eager: bool,
}

/// The most proposals that are worth looking at.
const MOST: usize = 200;

/// Proposals as they are found.
pub(crate) struct Found {
    typed: String,
    all: Vec<Proposal>,
    seen: HashSet<(String, Kind)>,
}

impl Found {
    /// Takes one in, if it fits what was typed. `weight` is how much it is to be expected here:
    /// from 0 to about 90, so that it decides between what fits equally well.
    fn put(&mut self, kind: Kind, label: &str, detail: impl Into<String>, insert: impl Into<String>, weight: i32) {
        let Some(fit) = rank::fit(&self.typed, label) else { return };
        self.take(Proposal {
            label: label.to_owned(),
            kind,
            detail: detail.into(),
            insert: insert.into(),
            rank: fit + weight,
        });
    }

    /// Takes a join in, by the table that it leads to.
    fn put_join(&mut self, table: &str, label: &str, detail: &str, insert: String, weight: i32) {
        let Some(fit) = rank::fit(&self.typed, table) else { return };
        let (label, detail) = (label.to_owned(), detail.to_owned());
        self.take(Proposal { label, kind: Kind::Join, detail, insert, rank: fit + weight });
    }

    fn take(&mut self, proposal: Proposal) {
        if self.seen.insert((proposal.insert.clone(), proposal.kind)) {
            self.all.push(proposal);
        }
    }
}

/// What could be written at byte `cursor` of a statement. Where a name of one's own is to be given
/// nothing is proposed.
pub fn complete(text: &str, cursor: usize, around: Surroundings<'_>) -> Completion {
    match around.dialect.family {
        Family::Sql => {}
        Family::Commands => return commands::complete(text, cursor, around),
        Family::Documents => return documents::complete(text, cursor, around),
    }
    let context = Context::of(text, cursor, around);
    let mut found = Found { typed: context.typed.clone(), all: Vec::new(), seen: HashSet::new() };
    propose(&context, &mut found);
    if around.catalog.objects().is_empty() && matches!(context.place, Place::Source | Place::Operand | Place::Column) {
        names_nearby(&context, &mut found);
    }
    let expected = matches!(context.place, Place::Source | Place::Column | Place::Procedure);
    let mut completion = finish(context.replace, found);
    let strong = |p: &Proposal| matches!(p.kind, Kind::Join | Kind::Value) || (p.kind == Kind::List && p.rank >= 80);
    completion.eager = expected || completion.proposals.first().is_some_and(strong);
    completion
}

fn finish(replace: Range<usize>, found: Found) -> Completion {
    let mut proposals = found.all;
    // Stable: what was found first is nearer.
    proposals.sort_by_key(|proposal| -proposal.rank);
    proposals.truncate(MOST);
    Completion { replace, proposals, eager: false }
}

/// Where no catalog is known: the names that stand in the text around.
fn names_nearby(context: &Context<'_>, found: &mut Found) {
    let nearby = shape::words(context.around.nearby, context.around.dialect, 0);
    for word in nearby.iter().rev() {
        let name = match word.kind {
            TokenKind::Word if !context.around.dialect.is_keyword(&word.text) && word.text.len() > 2 => {
                word.range.clone()
            }
            TokenKind::QuotedName if word.closed => word.range.clone(),
            _ => continue,
        };
        let name = context.around.nearby.get(name).unwrap_or_default();
        if !name.eq_ignore_ascii_case(&context.typed) {
            found.put(Kind::Word, name, "in this text", escaped(name), 15);
        }
    }
}

fn propose(context: &Context<'_>, found: &mut Found) {
    match context.place {
        Place::Nothing => {}
        Place::NewName => definitions::asks_first(context, found),
        Place::Text => values::within_quotes(context, found),
        Place::Start => keywords::starts(context, found),
        Place::Source => {
            tables::joined(context, found);
            tables::tables(context, found);
            keywords::functions_of_rows(context, found);
            definitions::asks_first(context, found);
        }
        Place::AfterSource => {
            tables::conditions(context, found);
            keywords::after_source(context, found);
        }
        Place::Operand => {
            if !context.qualifier.is_empty() {
                columns::qualified(context, found);
                return tables::in_schema(context, found);
            }
            tables::conditions(context, found);
            values::variables(context, found);
            values::values(context, found);
            columns::whole_list(context, found);
            columns::columns(context, found);
            keywords::functions(context, found);
            keywords::operands(context, found);
        }
        Place::AfterOperand => keywords::after_operand(context, found),
        Place::Column => {
            if context.back(1).is_some_and(|word| word.is("RENAME")) {
                keywords::say(context, found, &["column", "to"], 70);
            }
            columns::of_table(context, found);
        }
        Place::AfterTarget => {
            columns::insert(context, found);
            keywords::after_target(context, found);
        }
        Place::Type => keywords::types(context, found),
        Place::Definition => keywords::definition(context, found),
        Place::Procedure => tables::procedures(context, found),
    }
}

impl Context<'_> {
    /// A name as it has to be written here.
    fn written(&self, name: &str) -> String {
        let dialect = self.around.dialect;
        let plain = dialect.name_as_written(name);
        if self.quoted && plain == name {
            return dialect.quoted_name(name);
        }
        // A dialect that does not fold names takes capitals as they are.
        let bare = !self.quoted && !dialect.folds_names && !dialect.is_keyword(name);
        let simple = name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_');
        if bare && simple && !name.starts_with(|c: char| c.is_ascii_digit()) && !name.is_empty() {
            name.to_owned()
        } else {
            plain
        }
    }

    /// A keyword in the case of the others.
    fn cased(&self, keyword: &str) -> String {
        if self.capitals { keyword.to_uppercase() } else { keyword.to_lowercase() }
    }
}

#[cfg(test)]
pub(crate) mod tests;
