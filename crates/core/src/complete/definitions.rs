//! Words of statements that define something: what follows is told by what stands before, and by the language.

use super::Found;
use super::context::Context;
use super::keywords::{say, types};
use super::tables::tables;
use jaunty_language::dialect::Phrases;
use jaunty_language::lexer::TokenKind;
use jaunty_language::statement::shape::Word;

/// Words between the verb of a definition and the kind of what it defines.
const BETWEEN: &[&str] = &[
    "TEMP",
    "TEMPORARY",
    "UNIQUE",
    "MATERIALIZED",
    "UNLOGGED",
    "VIRTUAL",
    "CLUSTERED",
    "NONCLUSTERED",
    "FULLTEXT",
    "SPATIAL",
    "GLOBAL",
    "LOCAL",
    "RECURSIVE",
    "REPLACE",
    "ALTER",
];

/// Words that say where something belongs, and are not keywords everywhere.
const PLACED: &[&str] = &["AFTER", "BEFORE", "INSTEAD", "ENABLE", "DISABLE"];

/// A part of what stands before the cursor.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Part<'a> {
    /// A word that the language has, or any other.
    Word(&'a Word),
    /// A name with what it lies in.
    Name,
    /// What stands in parentheses, all of it.
    Group,
}

impl Part<'_> {
    fn is(&self, word: &str) -> bool {
        matches!(self, Part::Word(own) if own.is(word))
    }
}

/// The parts from one token to another: names with dots are one, and so is what stands in parentheses.
fn parts<'a>(context: &'a Context<'_>, from: usize, to: usize) -> Vec<Part<'a>> {
    let words = &context.shape.words;
    let mut all = Vec::new();
    let mut at = from;
    while let Some(word) = words.get(at).filter(|_| at < to) {
        if word.sign(b'(') {
            all.push(Part::Group);
            at = context.shape.closing(at, to) + 1;
            continue;
        }
        let (path, behind) = context.shape.path_from(at);
        let is_name = path.len() > 1 || word.kind == TokenKind::QuotedName;
        let is_known = context.around.dialect.is_keyword(&word.text) || word.is_one_of(PLACED);
        let is_word = word.kind == TokenKind::Word && is_known;
        match is_name || word.kind == TokenKind::Word && !is_word {
            true => {
                all.push(Part::Name);
                at = behind.max(at + 1);
            }
            false => {
                all.push(Part::Word(word));
                at += 1;
            }
        }
    }
    all
}

/// What follows in a definition; false where this is none that is known here.
pub(super) fn complete(context: &Context<'_>, found: &mut Found) -> bool {
    let Some(phrases) = context.around.dialect.phrases else { return false };
    let verbs = ["CREATE", "ALTER", "DROP"];
    let first = context.shape.words.first();
    if first.is_some_and(|word| word.is_one_of(&["GRANT", "REVOKE", "DENY"])) {
        granting(context, phrases, found);
        return true;
    }
    let Some(verb) = verbs.iter().position(|verb| first.is_some_and(|word| word.is(verb))) else { return false };
    if let Some(open) = context.open.filter(|_| verb < 2) {
        // Of what others have in parentheses nothing is known.
        if context.shape.words.iter().take(6).any(|word| word.is("TABLE")) {
            within(context, phrases, open, found);
        }
        return true;
    }
    let before = parts(context, 1, context.begins);
    let words = following(phrases, verb, &before);
    // Behind the column of an `ALTER COLUMN` stands its type, in some languages.
    let takes_type =
        matches!(before.as_slice(), [.., alter, column, Part::Name] if alter.is("ALTER") && column.is("COLUMN"));
    if takes_type && phrases.alter_table[3].is_empty() {
        types(context, found);
    }
    say(context, found, words, 60);
    true
}

/// What follows in a statement that grants or revokes.
fn granting(context: &Context<'_>, phrases: &'static Phrases, found: &mut Found) {
    let [what, _, after] = phrases.granting;
    let grants = context.shape.words.first().is_some_and(|word| !word.is("REVOKE"));
    let towards: &[&str] = if grants { &["to"] } else { &["from"] };
    let before = parts(context, 1, context.begins);
    let has = |word: &str| before.iter().any(|part| part.is(word));
    let is_list = |part: &&Part<'_>| matches!(part, Part::Word(word) if word.sign(b','));
    let names_who = has("TO") || has("FROM");
    match before.last() {
        // The names of users are in no catalog.
        Some(last) if last.is("TO") || last.is("FROM") || (names_who && is_list(&last)) => {}
        Some(_) if names_who => say(context, found, if grants { after } else { &["cascade", "restrict"] }, 60),
        Some(last) if has("ON") && !last.is("ON") && !is_list(&last) => say(context, found, towards, 60),
        Some(_) if has("ON") => tables(context, found),
        None if !grants => {
            say(context, found, what, 70);
            say(context, found, &["grant option for"], 45);
        }
        None => say(context, found, what, 70),
        Some(last) if is_list(&last) || last.is("FOR") => say(context, found, what, 70),
        Some(_) => {
            say(context, found, &["on"], 75);
            say(context, found, towards, 65);
        }
    }
}

/// Behind the kind of an object whose name comes next: whether it is to be asked if there is one.
pub(super) fn asks_first(context: &Context<'_>, found: &mut Found) {
    let (Some(phrases), true) = (context.around.dialect.phrases, context.qualifier.is_empty()) else { return };
    let first = |word: &str| context.shape.words.first().is_some_and(|own| own.is(word));
    let Some(kind) = context.back(1).filter(|_| context.begins > 1) else { return };
    if kind.is("ON") && (first("GRANT") || first("REVOKE") || first("DENY")) {
        return say(context, found, phrases.granting[1], 40);
    }
    match (first("CREATE"), first("DROP") || first("ALTER")) {
        (true, _) if kind.is_one_of(phrases.if_not_exists) => say(context, found, &["if not exists"], 10),
        (_, true) if kind.is_one_of(phrases.if_exists) => say(context, found, &["if exists"], 10),
        _ => {}
    }
}

/// What follows outside of parentheses.
fn following(phrases: &'static Phrases, verb: usize, before: &[Part<'_>]) -> &'static [&'static str] {
    let is_between = |part: &&Part<'_>| BETWEEN.iter().any(|word| part.is(word)) || part.is("OR");
    let between = before.iter().take_while(is_between).count();
    let [passed, rest] = [&before[..between], &before[between..]];
    let Some((kind, rest)) = rest.split_first() else {
        return match passed.last() {
            None => phrases.objects[verb],
            Some(last) if last.is("OR") => phrases.or,
            Some(last) if last.is("REPLACE") || last.is("ALTER") => &["view", "function", "procedure", "trigger"],
            Some(last) if last.is("UNIQUE") || last.is("FULLTEXT") || last.is("SPATIAL") => &["index"],
            Some(last) if last.is("CLUSTERED") || last.is("NONCLUSTERED") => &["index"],
            Some(last) if last.is("MATERIALIZED") || last.is("RECURSIVE") => &["view"],
            Some(_) => &["table", "view"],
        };
    };
    let asks = |kinds: &[&str]| kinds.iter().any(|known| kind.is(known) || passed.iter().any(|part| part.is(known)));
    match (verb, rest) {
        (0, []) if asks(phrases.if_not_exists) => return &["if not exists"],
        (0, []) => return &[],
        (_, []) if asks(phrases.if_exists) => return &["if exists"],
        (0, [one]) if one.is("IF") => return &["not exists"],
        (0, [.., one]) if one.is("NOT") && rest.len() == 2 => return &["exists"],
        (_, [one]) if one.is("IF") => return &["exists"],
        _ => {}
    }
    // The name comes behind what asks whether it is there.
    let asked = rest.iter().take_while(|part| ["IF", "NOT", "EXISTS", "ONLY"].iter().any(|word| part.is(word))).count();
    let Some((_, rest)) = rest[asked..].split_first() else { return &[] };
    let last = |word: &str| rest.last().is_some_and(|part| part.is(word));
    if verb == 0 && last("AS") {
        let reads = kind.is("TABLE") || kind.is("VIEW");
        return if reads { &["select", "with"] } else { &["begin"] };
    }
    match verb {
        2 if rest.is_empty()
            && (kind.is("TRIGGER") || kind.is("INDEX") || kind.is("POLICY"))
            && !phrases.dropped.is_empty() =>
        {
            &["on", "cascade"]
        }
        2 if rest.is_empty() && kind.is("INDEX") => &["on"],
        2 => phrases.dropped,
        _ if kind.is("TABLE") && verb == 1 => altered(phrases, rest),
        _ if kind.is("TABLE") => match rest {
            [] => &["as"],
            [.., Part::Group] => phrases.table,
            _ => &[],
        },
        _ if kind.is("VIEW") => match rest {
            [] | [Part::Group] => phrases.view,
            _ => &["as"],
        },
        _ if kind.is("INDEX") => match rest {
            [] => &["on"],
            [.., on, Part::Name] if on.is("ON") => phrases.index[0],
            [.., Part::Group] => phrases.index[1],
            _ => &[],
        },
        _ if kind.is("TRIGGER") => match rest {
            [] => phrases.trigger[0],
            [.., word] if word.is("BEFORE") || word.is("AFTER") || word.is("OF") => &["insert", "update", "delete"],
            [.., word] if word.is("INSTEAD") => &["of insert", "of update", "of delete"],
            [.., word] if ["INSERT", "UPDATE", "DELETE"].iter().any(|event| word.is(event)) => {
                &["on", "or", "of", "as"]
            }
            [.., on, Part::Name] if on.is("ON") => phrases.trigger[1],
            [.., word] if word.is("ROW") || word.is("STATEMENT") => &["when", "execute function", "begin"],
            _ => &["as", "begin"],
        },
        _ if kind.is("FUNCTION") || kind.is("PROCEDURE") || kind.is("PROC") => match () {
            () if last("RETURNS") || last("LANGUAGE") => &[],
            () => phrases.routine[usize::from(!kind.is("FUNCTION"))],
        },
        _ if kind.is("SEQUENCE") => &["start with", "increment by", "minvalue", "maxvalue", "cache"],
        _ if kind.is("SYNONYM") => &["for"],
        _ if (kind.is("TYPE") || kind.is("DOMAIN")) && rest.is_empty() => &["as"],
        _ => &[],
    }
}

/// Behind the table of an `ALTER TABLE`.
fn altered(phrases: &'static Phrases, rest: &[Part<'_>]) -> &'static [&'static str] {
    match rest {
        [] => phrases.alter_table[0],
        [.., word] if word.is("ADD") => phrases.alter_table[1],
        [.., word] if word.is("DROP") => phrases.alter_table[2],
        [.., word] if word.is("RENAME") => &["column", "to", "constraint"],
        [.., rename, Part::Name] if rename.is("RENAME") => &["to"],
        [.., rename, kind, Part::Name] if rename.is("RENAME") && (kind.is("COLUMN") || kind.is("CONSTRAINT")) => {
            &["to"]
        }
        [.., word] if word.is("ALTER") => &["column"],
        [.., column, Part::Name]
            if column.is("COLUMN") && !rest.iter().any(|part| part.is("ADD") || part.is("DROP")) =>
        {
            phrases.alter_table[3]
        }
        [.., constraint, Part::Name] if constraint.is("CONSTRAINT") => {
            &["primary key", "unique", "foreign key", "check"]
        }
        _ => clauses(phrases, rest, phrases.added_column),
    }
}

/// Behind a column's type, or a rule: what is told by the last words.
fn clauses(phrases: &'static Phrases, rest: &[Part<'_>], column: &'static [&'static str]) -> &'static [&'static str] {
    match rest {
        [.., word] if word.is("NOT") => &["null", "for replication"],
        [.., word] if word.is("PRIMARY") || word.is("FOREIGN") => &["key"],
        [.., foreign, key, Part::Group] if foreign.is("FOREIGN") && key.is("KEY") => &["references"],
        [.., word] if word.is("ON") => &["delete", "update"],
        [.., on, word] if on.is("ON") && (word.is("DELETE") || word.is("UPDATE")) => {
            &["cascade", "set null", "restrict", "no action"]
        }
        [.., references, Part::Name] | [.., references, Part::Name, Part::Group] if references.is("REFERENCES") => {
            phrases.reference
        }
        _ => column,
    }
}

/// Within parentheses: the columns and rules of a table.
fn within(context: &Context<'_>, phrases: &'static Phrases, open: usize, found: &mut Found) {
    let words = &context.shape.words;
    // Commas of inner parentheses are behind those that are closed: the innermost open one is this.
    let mut from = open + 1;
    let mut at = from;
    while at < context.begins {
        match words.get(at) {
            Some(word) if word.sign(b'(') => at = context.shape.closing(at, context.begins),
            Some(word) if word.sign(b',') => from = at + 1,
            _ => {}
        }
        at += 1;
    }
    let item = parts(context, from, context.begins);
    let words = match item.as_slice() {
        [] | [Part::Name] => &[],
        [constraint, Part::Name] if constraint.is("CONSTRAINT") => {
            &["primary key", "unique", "foreign key", "check"][..]
        }
        [rule, ..]
            if ["PRIMARY", "UNIQUE", "CHECK", "FOREIGN", "CONSTRAINT", "KEY", "INDEX"]
                .iter()
                .any(|word| rule.is(word)) =>
        {
            clauses(phrases, &item, &[])
        }
        all => clauses(phrases, all, phrases.column),
    };
    say(context, found, words, 60);
}
