//! Statements that give a password, without it: for what is kept.

use std::borrow::Cow;

use crate::dialect::{Dialect, Family};
use crate::lexer::{Lexer, TokenKind};

/// What stands in the place of a password.
const VEIL: &str = "***";

/// Words after which a text is a password: `PASSWORD 'x'`, `IDENTIFIED BY 'x'`, `USING 'x'`.
const BEFORE: &[&str] = &["PASSWORD", "BY", "USING", "AS"];

/// The statement with `***` for each password in it, as far as its words tell: of `ALTER ROLE … PASSWORD`,
/// `IDENTIFIED BY`, `SET PASSWORD`, `PASSWORD()`, user mappings and subscriptions in SQL, and of `AUTH`, `HELLO`, `ACL SETUSER`,
/// `CONFIG SET` and `MIGRATE` in commands, and of fields `pwd` and `password` in documents.
pub fn veiled<'a>(statement: &'a str, dialect: &'static Dialect) -> Cow<'a, str> {
    let places = match dialect.family {
        Family::Commands => in_command(statement, dialect),
        Family::Sql => in_sql(statement, dialect),
        Family::Documents => in_document(statement, dialect),
    };
    if places.is_empty() {
        return Cow::Borrowed(statement);
    }
    let (mut out, mut at) = (String::with_capacity(statement.len()), 0);
    for place in places {
        out.push_str(statement.get(at..place.start).unwrap_or_default());
        out.push_str(VEIL);
        at = place.end;
    }
    out.push_str(statement.get(at..).unwrap_or_default());
    Cow::Owned(out)
}

type Places = Vec<std::ops::Range<usize>>;

fn in_document(statement: &str, dialect: &'static Dialect) -> Places {
    let rope = crate::text::rope(statement);
    let tokens: Vec<_> = Lexer::new(&rope, dialect, 0).filter(|token| !token.kind.is_trivia()).collect();
    let named = tokens.windows(3).filter(|three| {
        let name = statement.get(three[0].range()).unwrap_or_default().trim_matches(['"', '\'']);
        ["pwd", "password"].iter().any(|secret| name.eq_ignore_ascii_case(secret))
            && three[1].kind == TokenKind::Punctuation(b':')
    });
    named.map(|three| three[2].range()).collect()
}

fn in_sql(statement: &str, dialect: &'static Dialect) -> Places {
    // Most statements have no such word.
    let lower = statement.to_ascii_lowercase();
    if !["password", "identified", "conninfo", "connection"].iter().any(|word| lower.contains(word)) {
        return Vec::new();
    }
    let rope = crate::text::rope(statement);
    let tokens: Vec<_> = Lexer::new(&rope, dialect, 0).filter(|token| !token.kind.is_trivia()).collect();
    let word = |at: Option<usize>| {
        let token = at.and_then(|at| tokens.get(at)).filter(|token| token.kind == TokenKind::Word);
        token.and_then(|token| statement.get(token.range())).map(str::to_ascii_uppercase).unwrap_or_default()
    };
    let sign = |at: Option<usize>| at.and_then(|at| tokens.get(at)).map(|token| token.kind);
    let secret = |at: usize| {
        // `PASSWORD('x')` and `PASSWORD = 'x'` too.
        let back = |at: usize| match sign(at.checked_sub(1)) {
            Some(TokenKind::Punctuation(b'(' | b'=')) => at.checked_sub(2),
            _ => at.checked_sub(1),
        };
        let before = back(at);
        let known = BEFORE.contains(&word(before).as_str());
        // `BY`, `USING` and `AS` stand in many statements.
        let about = tokens
            .iter()
            .enumerate()
            .take(at)
            .any(|(at, _)| matches!(word(Some(at)).as_str(), "IDENTIFIED" | "PASSWORD"));
        // A connection in a text has its password inside.
        let connection = matches!(word(before).as_str(), "CONNECTION" | "CONNINFO");
        let inside =
            || statement.get(tokens[at].range()).is_some_and(|text| text.to_ascii_lowercase().contains("password"));
        (known && about) || (connection && inside())
    };
    let texts =
        tokens.iter().enumerate().filter(|(_, token)| matches!(token.kind, TokenKind::Text | TokenKind::Binary));
    texts.filter(|(at, _)| secret(*at)).map(|(_, token)| token.range()).collect()
}

fn in_command(statement: &str, dialect: &'static Dialect) -> Places {
    let rope = crate::text::rope(statement);
    let tokens: Vec<_> = Lexer::new(&rope, dialect, 0).filter(|token| !token.kind.is_trivia()).collect();
    let text = |at: usize| tokens.get(at).and_then(|token| statement.get(token.range())).unwrap_or_default();
    let is = |at: usize, word: &str| text(at).trim_matches(['"', '\'']).eq_ignore_ascii_case(word);
    let from = |at: usize| tokens.iter().skip(at).map(|token| token.range()).collect();
    if is(0, "auth") {
        // The last is the password; before it may stand a user.
        return from(tokens.len().saturating_sub(1).max(1));
    }
    if is(0, "acl") && is(1, "setuser") {
        let secret = |at: &usize| text(*at).trim_start_matches(['"', '\'']).starts_with(['>', '<', '#', '!']);
        return (3..tokens.len()).filter(secret).map(|at| tokens[at].range()).collect();
    }
    if is(0, "config") && is(1, "set") {
        let secret = |at: &usize| {
            ["requirepass", "masterauth", "masteruser", "tls-key-file-pass"].iter().any(|word| is(at - 1, word))
        };
        return (3..tokens.len()).filter(secret).map(|at| tokens[at].range()).collect();
    }
    match (0..tokens.len()).find(|at| is(*at, "auth") || is(*at, "auth2")) {
        Some(at) if is(0, "hello") => tokens.get(at + 2).map(|token| token.range()).into_iter().collect(),
        Some(at) if is(0, "migrate") => {
            let last = if is(at, "auth2") { at + 2 } else { at + 1 };
            tokens.get(last).map(|token| token.range()).into_iter().collect()
        }
        _ => Vec::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{DOCUMENTS, MYSQL, POSTGRES, REDIS};

    #[test]
    fn passwords_are_left_out_and_nothing_else() {
        for (dialect, statement, kept) in [
            (
                &POSTGRES,
                "alter role clerk password 'tide-9' valid until 'infinity'",
                "alter role clerk password *** valid until 'infinity'",
            ),
            (&POSTGRES, "create user x with encrypted password E'ti''de'", "create user x with encrypted password ***"),
            (
                &POSTGRES,
                "create user mapping for x server s options (user 'x', password 'y')",
                "create user mapping for x server s options (user 'x', password ***)",
            ),
            (
                &POSTGRES,
                "create subscription s connection 'host=x password=y' publication p",
                "create subscription s connection *** publication p",
            ),
            (
                &POSTGRES,
                "select 'password', password from users where name = 'x'",
                "select 'password', password from users where name = 'x'",
            ),
            (&MYSQL, "create user a@'h' identified by 'x'", "create user a@'h' identified by ***"),
            (
                &MYSQL,
                "alter user a identified via mysql_native_password using password('x')",
                "alter user a identified via mysql_native_password using password(***)",
            ),
            (&MYSQL, "set password for a = password(\"x\")", "set password for a = password(***)"),
            (&MYSQL, "select * from t order by 'x'", "select * from t order by 'x'"),
            (&REDIS, "auth tide-9", "auth ***"),
            (&REDIS, "AUTH clerk \"ti de\"", "AUTH clerk ***"),
            (&REDIS, "acl setuser x on >tide ~* +@all", "acl setuser x on *** ~* +@all"),
            (&REDIS, "config set requirepass x", "config set requirepass ***"),
            (&REDIS, "hello 3 auth clerk x", "hello 3 auth clerk ***"),
            (&REDIS, "set auth x", "set auth x"),
            (
                &DOCUMENTS,
                "{ createUser: 'clerk', pwd: 'ti\\'de', roles: [] }",
                "{ createUser: 'clerk', pwd: ***, roles: [] }",
            ),
            (
                &DOCUMENTS,
                "guests insert { \"Password\": \"tide-9\", port: 1 }",
                "guests insert { \"Password\": ***, port: 1 }",
            ),
            (&DOCUMENTS, "guests { name: 'password' }", "guests { name: 'password' }"),
        ] {
            assert_eq!(veiled(statement, dialect), kept, "{}", dialect.name);
        }
    }
}
