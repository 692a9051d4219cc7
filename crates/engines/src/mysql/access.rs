//! What users and roles may do with tables, views, sequences and routines, from the tables of grants (MySQL Reference
//! Manual, "Grant Tables"; MariaDB Server Documentation, "The mysql Database Tables"). What holds for a whole database or
//! server is not an object's.

use jaunty_language::dialect::MYSQL;
use jaunty_seam::catalog::{Belonging, BelongingKind, Catalog, ObjectKind};
use jaunty_seam::error::{EngineError, ErrorKind};

use super::session::{MysqlSession, Row, field};

/// Of each: the database, the object, the kind of a routine, the column, the user, the host, and the words of what is
/// granted.
const TABLES: &str = "\
select db, table_name, '', '', user, host, table_priv from mysql.tables_priv where table_priv <> '' and db {OWN} order by 1, 2, 5, 6";
const COLUMNS: &str = "\
select db, table_name, '', column_name, user, host, column_priv from mysql.columns_priv where db {OWN} order by 1, 2, 5, 6, 4";
const ROUTINES: &str = "\
select db, routine_name, routine_type, '', user, host, proc_priv from mysql.procs_priv where proc_priv <> '' and db {OWN} order by 1, 2, 5, 6";

/// The word that stands for the right to grant what one has.
const GRANT: &str = "grant";

/// Reads all of them; those who may not read the tables of grants see none.
pub(super) fn read(session: &mut MysqlSession, own: &str, catalog: &mut Catalog) -> Result<(), EngineError> {
    for select in [TABLES, COLUMNS, ROUTINES] {
        let rows = match session.ask(&select.replace("{OWN}", own)) {
            Err(error) if error.kind == ErrorKind::Refused => {
                tracing::debug!(%error, "grants are not read");
                return Ok(());
            }
            rows => rows?,
        };
        rows.iter().for_each(|row| grant(catalog, row));
    }
    Ok(())
}

fn grant(catalog: &mut Catalog, row: &Row) {
    let [schema, name, routine, column, user, host, words] = [0, 1, 2, 3, 4, 5, 6].map(|at| field(row, at));
    let (object, word) = match routine.as_str() {
        "" => (catalog.holder_mut(&schema, &name), ""),
        "FUNCTION" => (catalog.routine_mut(&schema, &name, ObjectKind::Function), "function "),
        "PROCEDURE" => (catalog.routine_mut(&schema, &name, ObjectKind::Procedure), "procedure "),
        _ => return,
    };
    let Some(object) = object else { return };
    object.belongings.push(belonging(&object.name, word, &column, (&user, &host), &words));
}

/// What is granted to somebody, on an object or a column of it. The statements name the object without its database, as
/// definitions do.
fn belonging(object: &str, word: &str, column: &str, (user, host): (&str, &str), words: &str) -> Belonging {
    let lower = words.to_lowercase();
    let (may_grant, mut granted): (Vec<&str>, Vec<&str>) = lower.split(',').partition(|word| *word == GRANT);
    let may_grant = !may_grant.is_empty();
    granted.sort_unstable();
    // A word of the table, where the statement has another one (MariaDB).
    let said =
        |word: &str| if word == "delete versioning rows" { "delete history".to_owned() } else { word.to_owned() };
    let of_column = |word: String| match column {
        "" => word,
        column => format!("{word} ({})", MYSQL.name_as_written(column)),
    };
    let what: Vec<String> = granted.into_iter().map(|word| of_column(said(word))).collect();
    let quoted = |text: &str| MYSQL.text_as_written(text);
    let who = match (user, host) {
        ("PUBLIC", "") => "public".to_owned(),
        // A role of MariaDB.
        (role, "") => quoted(role),
        (user, host) => format!("{}@{}", quoted(user), quoted(host)),
    };
    let shown = if host.is_empty() { user.to_owned() } else { format!("{user}@{host}") };
    let on = format!("on {word}{}", MYSQL.name_as_written(object));
    // Who has nothing may still hand on what comes.
    let given = if what.is_empty() { "usage".to_owned() } else { what.join(", ") };
    let taken: Vec<String> = what.into_iter().chain(may_grant.then(|| "grant option".to_owned())).collect();
    Belonging {
        kind: BelongingKind::Grant,
        name: format!(
            "{shown}{}{}",
            if column.is_empty() { String::new() } else { format!(" of {column}") },
            if may_grant { " (may grant it)" } else { "" }
        ),
        of: String::new(),
        to: None,
        makes: format!("grant {given} {on} to {who}{}", if may_grant { " with grant option" } else { "" }),
        unmakes: format!("revoke {} {on} from {who}", taken.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn made(column: &str, who: (&str, &str), words: &str) -> (String, String, String) {
        let made = belonging("quay`s", "", column, who, words);
        (made.name, made.makes, made.unmakes)
    }

    #[test]
    fn grants_are_written_with_every_name_in_quotes() {
        assert_eq!(
            made("", ("o'clerk", "10.%"), "Select,Insert,Grant"),
            (
                "o'clerk@10.% (may grant it)".into(),
                "grant insert, select on `quay``s` to 'o''clerk'@'10.%' with grant option".into(),
                "revoke insert, select, grant option on `quay``s` from 'o''clerk'@'10.%'".into()
            )
        );
        assert_eq!(
            made("the name", ("mate", ""), "Update"),
            (
                "mate of the name".into(),
                "grant update (`the name`) on `quay``s` to 'mate'".into(),
                "revoke update (`the name`) on `quay``s` from 'mate'".into()
            )
        );
        let (_, makes, unmakes) = made("", ("PUBLIC", ""), "Grant");
        assert_eq!(makes, "grant usage on `quay``s` to public with grant option");
        assert_eq!(unmakes, "revoke grant option on `quay``s` from public");
        assert!(
            made("", ("a", "b"), "Show view,Delete versioning rows")
                .1
                .starts_with("grant delete history, show view on")
        );
    }
}
