//! What may follow what in statements that define or change something, for completion.

/// Phrases of a language that not all of its family have. Each list is in the order in which they are offered.
#[derive(Debug, Clone, Copy, Default)]
pub struct Phrases {
    /// Phrases that the language does not have, though it has their words.
    pub unsaid: &'static [&'static str],
    /// Behind the table of `INSERT`, of `DELETE` and of `UPDATE`, and behind the condition of the last two.
    pub writing: [&'static [&'static str]; 4],
    /// Behind `CREATE`, `ALTER` and `DROP`.
    pub objects: [&'static [&'static str]; 3],
    /// Behind `CREATE OR`.
    pub or: &'static [&'static str],
    /// The kinds that can be made only where there is none, in capitals: behind one stands `IF NOT EXISTS`.
    pub if_not_exists: &'static [&'static str],
    /// The kinds that can be dropped only where there is one: behind one stands `IF EXISTS`.
    pub if_exists: &'static [&'static str],
    /// Behind what is dropped.
    pub dropped: &'static [&'static str],
    /// Behind the type of a column.
    pub column: &'static [&'static str],
    /// The same where a column is added to a table that is there.
    pub added_column: &'static [&'static str],
    /// Behind what a foreign key leads to.
    pub reference: &'static [&'static str],
    /// Behind the columns of a table that is made.
    pub table: &'static [&'static str],
    /// Behind the table of an index, and behind its columns.
    pub index: [&'static [&'static str]; 2],
    /// Behind the table of `ALTER TABLE`; behind `ADD`, `DROP`, and the column of `ALTER COLUMN`, where no type follows.
    pub alter_table: [&'static [&'static str]; 4],
    /// Behind the name of a view that is made.
    pub view: &'static [&'static str],
    /// Behind the name of a trigger, and behind its table.
    pub trigger: [&'static [&'static str]; 2],
    /// Behind the name and the arguments of a function, and of a procedure.
    pub routine: [&'static [&'static str]; 2],
    /// What may be granted and revoked; kinds that stand behind `ON`, beside the names of tables; and behind who is granted.
    pub granting: [&'static [&'static str]; 3],
}

#[cfg(test)]
mod tests {
    use crate::dialect::{DIALECTS, Family};

    /// Words of phrases that are not in their languages' lists of keywords: names of methods and languages, and words that
    /// mean something in one place only.
    const OTHERS: &str = "admin after always attach before brin btree charset connect control data definer definition detach disable enable execute full function functions gin gist granted hash \
        identity instead invoker last level list login natural nulls object owned plpgsql privileges rebuild replication restrict row schemabinding security sequences sparse sql \
        statement switch system tables usage user valid validate value window";

    #[test]
    fn every_language_of_the_family_says_what_follows_what() {
        let (mut strange, others) = (Vec::new(), OTHERS.split_whitespace().collect::<Vec<_>>());
        for dialect in DIALECTS.iter().filter(|dialect| dialect.family == Family::Sql) {
            let phrases = dialect.phrases.unwrap_or_else(|| panic!("{} has no phrases", dialect.name));
            let lists = [
                &phrases.writing[..],
                &phrases.objects,
                &phrases.index,
                &phrases.alter_table,
                &phrases.trigger,
                &phrases.routine,
                &phrases.granting,
                &[
                    phrases.or,
                    phrases.if_not_exists,
                    phrases.if_exists,
                    phrases.dropped,
                    phrases.column,
                    phrases.added_column,
                    phrases.reference,
                    phrases.table,
                    phrases.view,
                    phrases.unsaid,
                ],
            ];
            for phrase in lists.into_iter().flatten().flat_map(|list| list.iter()) {
                let words = phrase
                    .split(' ')
                    .map(|word| word.trim_end_matches("::"))
                    .filter(|word| !dialect.is_keyword(word) && !others.contains(&word.to_ascii_lowercase().as_str()));
                strange.extend(words.map(|word| format!("{}: {word} in {phrase}", dialect.name)));
            }
        }
        assert!(strange.is_empty(), "{}", strange.join("\n"));
    }
}
