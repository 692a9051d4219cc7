//! What a statement does to a database, as far as its words tell.
//!
//! This is for guards, and goes by what is *known to read*: a statement that begins in no way of the dialect's
//! table does not pass for one that reads. The server has the last word where it can be asked; what is told here
//! is what no server can be asked about: statements that change the guard itself, that write where no transaction
//! of the server reaches, or that carry out what their words do not show.

use ropey::Rope;

use crate::dialect::{Acting, Dialect};
use crate::lexer::{Lexer, Token, TokenKind};

/// What a statement does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Acts {
    /// It reads, as far as its words tell.
    Reads,
    /// It writes, and a server that was told to refuse writes refuses it.
    Writes,
    /// It carries out what its words do not show, or is not known.
    Hidden,
    /// It changes the guard, or writes where the server's refusal does not reach: by these words.
    Outside(String),
}

/// What a statement does, by its words. A language without a table tells nothing.
pub fn acts(statement: &str, dialect: &'static Dialect) -> Acts {
    let Some(table) = dialect.acting else { return Acts::Reads };
    let words = words(statement, dialect);
    let mut start = 0;
    let mut runs = true;
    // `EXPLAIN` carries nothing out, unless it analyses.
    while let Some(word) = words.get(start).filter(|word| dialect.prefixes.contains(&word.text.as_str())) {
        let analyses = |word: &Word| matches!(word.text.as_str(), "ANALYZE" | "ANALYSE");
        let table_of = words.get(start + 1).is_some_and(|next| dialect.no_prefix_before.contains(&next.text.as_str()));
        if table_of {
            break;
        }
        let options = words.iter().skip(start + 1).take_while(|word| !begins(&word.text, dialect) || analyses(word));
        let options: Vec<_> = options.collect();
        runs = analyses(word) || options.iter().any(|word| analyses(word));
        start += 1 + options.len();
    }
    let rest = words.get(start..).unwrap_or_default();
    if let Some(what) = outside(&words, rest, table) {
        return Acts::Outside(what);
    }
    if !runs {
        return Acts::Reads;
    }
    if let Some(carrier) = dialect.carriers.iter().find(|c| rest.first().is_some_and(|word| word.text == c.lead)) {
        let fits = carrier.second.is_empty() || rest.get(1).is_some_and(|word| word.text == carrier.second);
        if fits && carrier.kind.is_none() {
            let inner = rest.iter().find(|word| word.text == carrier.until && word.depth == 0);
            return inner.map_or(Acts::Hidden, |word| acts(statement.get(word.end..).unwrap_or_default(), dialect));
        }
    }
    let Some(first) = rest.first() else { return Acts::Reads };
    let leads = |known: &[&str]| begins_with(rest, known).is_some();
    if leads(table.hidden) {
        return Acts::Hidden;
    }
    // A query may hold a statement that writes, in parentheses or behind its list of expressions.
    let writes_within = |word: &Word| {
        matches!(word.text.as_str(), "INSERT" | "UPDATE" | "DELETE" | "MERGE" | "REPLACE")
            && (word.opens
                || (word.depth == 0
                    && first.text == "WITH"
                    && !word.called
                    && word.after != "FOR"
                    && word.after != "KEY"))
    };
    let query = matches!(first.text.as_str(), "SELECT" | "WITH" | "VALUES" | "TABLE" | "COPY" | "DECLARE" | "(");
    if query && rest.iter().any(writes_within) {
        return Acts::Writes;
    }
    let copied_in = |word: &Word| first.text == "COPY" && word.text == "FROM" && word.depth == 0;
    if rest.iter().any(copied_in) {
        return Acts::Writes;
    }
    let into = query && table.into.iter().any(|into| sequence(rest, into, Some(0)).is_some());
    // PostgreSQL does not refuse this in a read-only transaction, other than without `EXPLAIN`.
    if start > 0 && (into || first.text == "CREATE") {
        return Acts::Outside(format!("{} {}", words.first().map_or("", |word| &word.text), first.text));
    }
    if into {
        return Acts::Writes;
    }
    // Where nothing has to stand between statements, another one may follow what reads.
    let writes: Vec<&str> = [table.refused, table.hidden, table.leads_outside]
        .into_iter()
        .flatten()
        .filter_map(|known| known.split(' ').next())
        .filter(|word| !table.reads.contains(word))
        .collect();
    let another = |word: &Word| !word.quoted && writes.contains(&word.text.as_str());
    let follows = dialect.batch_word.is_some() && rest.iter().skip(1).any(another);
    match (leads(table.reads), leads(table.refused)) {
        (true, _) if follows => Acts::Hidden,
        (true, _) => Acts::Reads,
        (false, true) => Acts::Writes,
        (false, false) => Acts::Hidden,
    }
}

/// The names of functions that a statement calls, as they are written, without quotes.
pub fn called(statement: &str, dialect: &'static Dialect) -> Vec<String> {
    let mut names: Vec<_> =
        words(statement, dialect).into_iter().filter(|word| word.called).map(|word| word.written).collect();
    names.sort();
    names.dedup();
    names
}

/// Whether a text holds one of these words, upper case, outside quotes and comments.
pub fn holds_word(text: &str, dialect: &'static Dialect, wanted: &[&str]) -> bool {
    words(text, dialect).iter().any(|word| wanted.contains(&word.text.as_str()))
}

fn begins(word: &str, dialect: &Dialect) -> bool {
    dialect.starter(word).is_some() || dialect.prefixes.contains(&word)
}

/// The words of these, of which each may be several, that a statement begins with.
fn begins_with<'a>(words: &[Word], known: &'a [&'a str]) -> Option<&'a str> {
    let leads =
        |known: &&&str| known.split(' ').enumerate().all(|(at, one)| words.get(at).is_some_and(|w| w.text == one));
    known.iter().find(leads).copied()
}

fn outside(words: &[Word], rest: &[Word], table: &Acting) -> Option<String> {
    if let Some(found) = begins_with(rest, table.leads_outside) {
        return Some(found.to_owned());
    }
    // Rows of a `COPY` go to the client, or else to a file of the server.
    let file = |word: &Word, to: &str, client: &str| word.text == to && word.depth == 0 && word.before != client;
    if rest.first().is_some_and(|word| word.text == "COPY") {
        let from = rest.iter().any(|word| file(word, "FROM", "STDIN"));
        if !from && rest.iter().any(|word| file(word, "TO", "STDOUT")) {
            return Some("COPY … TO a file".to_owned());
        }
    }
    if let Some(found) = table.outside.iter().find(|wanted| sequence(words, wanted, None).is_some()) {
        return Some(found.join(" "));
    }
    let function = |word: &Word| {
        let name = word.text.to_lowercase();
        let known = |known: &&&str| match known.strip_suffix('*') {
            Some(start) => name.starts_with(start),
            None => name == **known,
        };
        word.called && table.functions.iter().any(|f| known(&f))
    };
    if let Some(word) = words.iter().find(|word| function(word)) {
        return Some(format!("{}()", word.text.to_lowercase()));
    }
    let sets = words.iter().position(|word| matches!(word.text.as_str(), "SET" | "RESET" | "BEGIN" | "START"))?;
    let behind = words.get(sets..).unwrap_or_default();
    if sequence(behind, &["READ", "WRITE"], None).is_some() {
        return Some("READ WRITE".to_owned());
    }
    behind.iter().find(|word| table.settings.contains(&word.text.as_str())).map(|word| word.text.clone())
}

/// Where words stand one after the other, at this depth if one is given.
fn sequence(words: &[Word], wanted: &[&str], depth: Option<usize>) -> Option<usize> {
    words.windows(wanted.len()).position(|window| {
        window.iter().zip(wanted).all(|(word, wanted)| word.text == *wanted)
            && depth.is_none_or(|depth| window.first().is_some_and(|word| word.depth == depth))
    })
}

/// A word of a statement: a keyword or a name, or an opening parenthesis at its beginning.
#[derive(Debug)]
struct Word {
    /// Upper case.
    text: String,
    /// As it is written, without quotes.
    written: String,
    /// The byte after it.
    end: usize,
    /// How many parentheses are open.
    depth: usize,
    /// Whether it is the first behind an opening parenthesis.
    opens: bool,
    /// Whether it is in quotes, and so a name.
    quoted: bool,
    /// Whether a parenthesis follows.
    called: bool,
    /// The word before it.
    after: String,
    /// What comes after it, if that is a word.
    before: String,
}

fn words(statement: &str, dialect: &'static Dialect) -> Vec<Word> {
    let rope = Rope::from_str(statement);
    let mut found: Vec<Word> = Vec::new();
    let (mut depth, mut opened) = (0, false);
    let mut tokens: Vec<Token> = Vec::new();
    let mut beside = false;
    for token in Lexer::new(&rope, dialect, 0) {
        // What the server carries out is no comment.
        if token.kind == TokenKind::Code {
            let open = dialect
                .code_comments
                .iter()
                .find(|open| statement.get(token.start..).is_some_and(|t| t.starts_with(**open)));
            let from = token.start + open.map_or(0, |open| open.len());
            tokens.extend(Lexer::new(&rope, dialect, from).take_while(|inner| inner.end + 2 <= token.end));
        } else {
            tokens.push(token);
        }
    }
    for token in tokens.into_iter().filter(|token| !token.kind.is_trivia()) {
        let text = statement.get(token.range()).unwrap_or_default();
        match token.kind {
            TokenKind::Word | TokenKind::QuotedName | TokenKind::Parameter => {
                let written = text.trim_matches(dialect.name_quotes).trim_start_matches('@').to_owned();
                let after = found.last().map_or_else(String::new, |word| word.text.clone());
                let text = written.to_uppercase();
                if let Some(word) = found.last_mut().filter(|_| beside) {
                    word.before.clone_from(&text);
                }
                let word = Word {
                    text,
                    written,
                    end: token.end,
                    depth,
                    opens: opened,
                    quoted: token.kind == TokenKind::QuotedName,
                    called: false,
                    after,
                    before: String::new(),
                };
                found.push(word);
                (opened, beside) = (false, true);
                continue;
            }
            TokenKind::Punctuation(b'(') => {
                if let Some(word) =
                    found.last_mut().filter(|word| statement.get(word.end..token.start).is_some_and(is_blank))
                {
                    word.called = true;
                }
                depth += 1;
                opened = true;
            }
            TokenKind::Punctuation(b')') => {
                depth = depth.saturating_sub(1);
                opened = false;
            }
            TokenKind::Punctuation(b'@') => {}
            _ => opened = false,
        }
        beside = false;
    }
    found
}

/// Whether nothing stands between a name and its parenthesis.
fn is_blank(text: &str) -> bool {
    text.trim().is_empty() || text.trim_start().starts_with("/*")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{MYSQL, POSTGRES, REDIS, SQLITE, SQLSERVER};

    fn all(dialect: &'static Dialect, reads: &[&str], writes: &[&str], hidden: &[&str], outside: &[&str]) {
        for (statements, expected) in [(reads, Acts::Reads), (writes, Acts::Writes), (hidden, Acts::Hidden)] {
            for statement in statements {
                assert_eq!(acts(statement, dialect), expected, "{}: {statement}", dialect.name);
            }
        }
        for statement in outside {
            let found = acts(statement, dialect);
            assert!(matches!(found, Acts::Outside(_)), "{}: {statement}: {found:?}", dialect.name);
        }
    }

    #[test]
    fn postgres() {
        all(
            &POSTGRES,
            &[
                "select 1",
                "with a as (select 1) select * from a",
                "values (1)",
                "table ports",
                "(select 1) union (select 2)",
                "show all",
                "explain delete from t",
                "explain (costs off) insert into t values (1)",
                "explain analyze select 1",
                "begin",
                "commit",
                "rollback to savepoint s",
                "start transaction read only",
                "set search_path to s",
                "reset all",
                "select 'delete', \"update\" from t -- insert",
                "copy t to stdout",
                "copy (select 1) to stdout",
                "declare c cursor for select 1",
                "fetch all from c",
                "select * from t for update",
                "select replace(a, 'x', 'y') from t",
                "listen x",
                "discard all",
                "with a as (select 1) select * from a for update",
            ],
            &[
                "delete from t",
                "with a as (delete from t returning *) select * from a",
                "select 1 into t2",
                "with a as (select 1) select * into t2 from a",
                "explain analyse delete from t",
                "explain (analyse) delete from t",
                "explain (analyze, costs off) delete from t",
                "with a as (select 1) insert into t select * from a",
                "create table t (a int)",
                "truncate t",
                "copy t from stdin",
                "copy (delete from t returning *) to stdout",
                "merge into t using s on true when matched then delete",
                "grant select on t to clerk",
            ],
            &["do $$begin end$$", "call p()", "execute p", "unheard of"],
            &[
                "set default_transaction_read_only = off",
                "set session characteristics as transaction read write",
                "select set_config('default_transaction_read_only', 'off', false)",
                "begin read write",
                "begin isolation level serializable, read write",
                "set transaction read write",
                "set local transaction_read_only = off",
                "copy t to program 'cat'",
                "copy t to '/tmp/x'",
                "copy (select 1) to '/tmp/x'",
                "alter system set x = 1",
                "vacuum",
                "analyze t",
                "checkpoint",
                "explain analyze select 1 into t2",
                "explain analyze create table t2 as select 1",
                "select lo_import('/etc/passwd')",
                "select pg_create_physical_replication_slot('x')",
                "select dblink_exec('x', 'delete')",
                "select \"lo_unlink\"(1)",
                "select pg_catalog.set_config(x, y, false)",
                "explain analyze select lo_create(1)",
                "notify x",
                "select pg_reload_conf()",
                "prepare transaction 'x'",
                "prepare p as select lo_create(1)",
                "alter role clerk set default_transaction_read_only = off",
            ],
        );
    }

    #[test]
    fn sqlserver() {
        all(
            &SQLSERVER,
            &[
                "select 1",
                "with a as (select 1 as x) select * from a",
                "declare @a int = 1 select @a",
                "set nocount on",
                "begin transaction",
                "commit",
                "print 'delete from t'",
                "select [delete], \"update\" from t -- insert",
            ],
            &[
                "delete from t",
                "delete t",
                "insert t values (1)",
                "merge into t using s on t.a = s.a when matched then delete",
                "select * into t2 from t",
                "truncate table t",
                "grant select on t to clerk",
            ],
            &[
                "exec p",
                "p",
                "set nocount on delete from t",
                "select 1 delete from t",
                "select 1\ngo\ndelete from t",
                "begin delete from t end",
                "begin try delete from t end try begin catch end catch",
                "if 1 = 1 delete from t",
                "declare @a int exec p",
                "begin transaction drop table t",
            ],
            &[
                "backup database x to disk = 'y'",
                "kill 51",
                "dbcc checkdb",
                "shutdown",
                "select * from openrowset('x', 'y', 'z')",
            ],
        );
    }

    #[test]
    fn mysql() {
        all(
            &MYSQL,
            &[
                "select 1",
                "with a as (select 1) select * from a",
                "show tables",
                "describe t",
                "explain update t set a = 1",
                "analyze select 1",
                "analyze format=json select 1",
                "use ferry",
                "set @a = 1",
                "set sql_mode = ''",
                "begin",
                "start transaction",
                "commit",
                "set statement max_statement_time = 1 for select 1",
                "select replace('a', 'b', 'c')",
                "select insert('a', 1, 1, 'b')",
                "select 1 into @a",
                "select * from t for update",
                "set names utf8mb4",
                "explain format=json delete from t",
            ],
            &[
                "delete from t",
                "set statement max_statement_time = 1 for delete from t",
                "analyze delete from t",
                "analyze format=json update t set a = 1",
                "replace into t values (1)",
                "/*! delete from t */",
                "/*!50001 drop table t */",
                "load data infile 'x' into table t",
                "with a as (select 1) delete from t",
                "rename table a to b",
                "grant select on t to a",
            ],
            &[
                "begin not atomic delete from t; end",
                "call p()",
                "execute immediate 'delete from t'",
                "do f()",
                "if 1 then drop table t; end if",
                "lock tables t write",
                "handler t open",
            ],
            &[
                "set session transaction read write",
                "set tx_read_only = 0",
                "set @@session.tx_read_only = 0",
                "set statement tx_read_only = 0 for delete from t",
                "start transaction read write",
                "set transaction_read_only = off",
                "select 1 into outfile '/tmp/x'",
                "select 1 into dumpfile '/tmp/x'",
                "set global x = 1",
                "set @@global.x = 1",
                "set password = password('x')",
                "set persist x = 1",
                "shutdown",
                "flush tables",
                "kill 3",
                "install soname 'x'",
                "analyze table t",
                "optimize table t",
                "reset master",
                "set default role r",
                "purge binary logs to 'x'",
            ],
        );
    }

    #[test]
    fn others() {
        all(
            &SQLITE,
            &["select 1", "explain delete from t", "pragma table_info(t)", "pragma user_version", "begin", "commit"],
            &["delete from t", "with a as (select 1) insert into t select * from a", "create table t (a)"],
            &["unheard of"],
            &["vacuum into 'x.db'", "attach 'x.db' as x"],
        );
        assert_eq!(acts("flushall", &REDIS), Acts::Reads, "the server tells");
    }
}
