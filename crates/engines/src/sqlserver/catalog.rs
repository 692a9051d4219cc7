//! What a database holds, from the views of its schema `sys`.

use jaunty_language::dialect::SQLSERVER;
use jaunty_seam::catalog::{Catalog, Column, Constraint, Index, Name, Object, ObjectKind, Rule, Trigger};
use jaunty_seam::error::EngineError;

use super::session::{Row, SqlServerSession, field};

/// Tables and views with their columns: a row a column.
const RELATIONS: &str = "\
select s.name as s_name, o.name as o_name, o.type as o_type, c.name as c_name, t.name as t_name, c.max_length, c.precision, c.scale, \
c.is_nullable, c.is_identity, d.definition as d_definition, k.definition as k_definition, e.value as e_value, \
c.column_id, c.collation_name \
from sys.objects o join sys.schemas s on s.schema_id = o.schema_id \
left join sys.columns c on c.object_id = o.object_id \
left join sys.types t on t.user_type_id = c.user_type_id \
left join sys.default_constraints d on d.object_id = c.default_object_id \
left join sys.computed_columns k on k.object_id = c.object_id and k.column_id = c.column_id \
left join sys.extended_properties e on e.class = 1 and e.major_id = o.object_id and e.minor_id = c.column_id and e.name = 'MS_Description' \
where o.type in ('U', 'V') and o.is_ms_shipped = 0 order by s.name, o.name, c.column_id";

/// Comments, rows and bytes of tables.
const ABOUT: &str = "\
select s.name as s_name, o.name as o_name, e.value as e_value, \
(select sum(p.rows) from sys.partitions p where p.object_id = o.object_id and p.index_id < 2) as row_count, \
(select sum(a.total_pages) * 8192 from sys.partitions p join sys.allocation_units a on a.container_id = p.partition_id \
where p.object_id = o.object_id) as byte_count, o.type as o_type \
from sys.objects o join sys.schemas s on s.schema_id = o.schema_id \
left join sys.extended_properties e on e.class = 1 and e.major_id = o.object_id and e.minor_id = 0 and e.name = 'MS_Description' \
where o.type in ('U', 'V') and o.is_ms_shipped = 0";

/// Keys and indexes with their columns: a row a column.
const INDEXES: &str = "\
select s.name as s_name, o.name as o_name, i.name as i_name, i.is_unique, i.is_primary_key, i.is_unique_constraint, c.name as c_name, \
x.is_descending_key, x.is_included_column, i.filter_definition, i.type_desc \
from sys.indexes i join sys.objects o on o.object_id = i.object_id join sys.schemas s on s.schema_id = o.schema_id \
join sys.index_columns x on x.object_id = i.object_id and x.index_id = i.index_id \
join sys.columns c on c.object_id = x.object_id and c.column_id = x.column_id \
where o.type in ('U', 'V') and o.is_ms_shipped = 0 and i.name is not null \
order by s.name, o.name, i.is_primary_key desc, i.name, x.is_included_column, x.key_ordinal, x.index_column_id";

const FOREIGN: &str = "\
select s.name as s_name, o.name as o_name, f.name as f_name, c.name as c_name, rs.name as rs_name, r.name as r_name, rc.name as rc_name, \
f.delete_referential_action_desc, f.update_referential_action_desc \
from sys.foreign_keys f join sys.objects o on o.object_id = f.parent_object_id join sys.schemas s on s.schema_id = o.schema_id \
join sys.objects r on r.object_id = f.referenced_object_id join sys.schemas rs on rs.schema_id = r.schema_id \
join sys.foreign_key_columns k on k.constraint_object_id = f.object_id \
join sys.columns c on c.object_id = k.parent_object_id and c.column_id = k.parent_column_id \
join sys.columns rc on rc.object_id = k.referenced_object_id and rc.column_id = k.referenced_column_id \
order by s.name, o.name, f.name, k.constraint_column_id";

const CHECKS: &str = "\
select s.name as s_name, o.name as o_name, k.name as k_name, k.definition from sys.check_constraints k \
join sys.objects o on o.object_id = k.parent_object_id join sys.schemas s on s.schema_id = o.schema_id order by s.name, o.name, k.name";

const TRIGGERS: &str = "\
select s.name as s_name, o.name as o_name, t.name as t_name, t.is_instead_of_trigger, e.type_desc, m.definition from sys.triggers t \
join sys.objects o on o.object_id = t.parent_id join sys.schemas s on s.schema_id = o.schema_id \
join sys.trigger_events e on e.object_id = t.object_id left join sys.sql_modules m on m.object_id = t.object_id \
order by s.name, o.name, t.name, e.type";

/// What has a text: views and routines.
const MODULES: &str = "\
select s.name as s_name, o.name as o_name, o.type as o_type, m.definition from sys.objects o \
join sys.schemas s on s.schema_id = o.schema_id join sys.sql_modules m on m.object_id = o.object_id \
where o.type in ('V', 'P', 'FN', 'IF', 'TF') and o.is_ms_shipped = 0";

/// Routines with their parameters: a row a parameter; number 0 is what a function gives.
const ROUTINES: &str = "\
select s.name as s_name, o.name as o_name, o.type as o_type, p.name as p_name, t.name as t_name, p.max_length, p.precision, p.scale, p.is_output, p.parameter_id \
from sys.objects o join sys.schemas s on s.schema_id = o.schema_id left join sys.parameters p on p.object_id = o.object_id \
left join sys.types t on t.user_type_id = p.user_type_id \
where o.type in ('P', 'FN', 'IF', 'TF', 'PC', 'FS', 'FT') and o.is_ms_shipped = 0 order by s.name, o.name, p.parameter_id";

const OTHERS: &str = "\
select s.name as s_name, o.name as o_name, o.type as o_type, y.base_object_name from sys.objects o join sys.schemas s on s.schema_id = o.schema_id \
left join sys.synonyms y on y.object_id = o.object_id where o.type in ('SO', 'SN') and o.is_ms_shipped = 0";

const TYPES: &str = "\
select s.name as s_name, t.name as t_name, b.name as b_name, t.max_length, t.precision, t.scale, t.is_table_type from sys.types t \
join sys.schemas s on s.schema_id = t.schema_id left join sys.types b on b.user_type_id = t.system_type_id where t.is_user_defined = 1";

/// Reads a part of it.
pub fn read(session: &mut SqlServerSession, part: usize, catalog: &mut Catalog) -> Result<bool, EngineError> {
    match part {
        0 => {
            catalog.path = vec![session.location.schema.clone()];
            session.ask(RELATIONS)?.iter().for_each(|row| column(catalog, row));
        }
        1 => session.ask(ABOUT)?.iter().for_each(|row| about(catalog, row)),
        2 => session.ask(INDEXES)?.iter().for_each(|row| index(catalog, row)),
        3 => {
            session.ask(FOREIGN)?.iter().for_each(|row| foreign(catalog, row));
            for row in session.ask(CHECKS)? {
                let Some(table) = catalog.relation_mut(field(&row, 0), field(&row, 1)) else { continue };
                let rule = Rule::Check(bare(field(&row, 3)).to_owned());
                table.constraints.push(Constraint::new(field(&row, 2).to_owned(), Vec::new(), rule));
            }
        }
        4 => session.ask(TRIGGERS)?.iter().for_each(|row| trigger(catalog, row)),
        5 => session.ask(ROUTINES)?.iter().for_each(|row| routine(catalog, row)),
        6 => {
            for row in session.ask(MODULES)? {
                let object = catalog.object(field(&row, 0), field(&row, 1), kind(field(&row, 2)));
                object.definition = field(&row, 3).to_owned();
            }
            catalog.find_uses(&SQLSERVER);
        }
        _ => {
            for row in session.ask(OTHERS)? {
                let object = catalog.object(field(&row, 0), field(&row, 1), kind(field(&row, 2)));
                object.clauses = match field(&row, 3) {
                    "" => String::new(),
                    base => format!("for {base}"),
                };
            }
            for row in session.ask(TYPES)? {
                let object = catalog.object(field(&row, 0), field(&row, 1), ObjectKind::Type);
                object.clauses = match field(&row, 6) {
                    "1" => "as a table".to_owned(),
                    _ => format!("from {}", type_name(&row, 2)),
                };
            }
            let databases = session.ask("select name from sys.databases order by name")?;
            catalog.databases = databases.iter().map(|row| field(row, 0).to_owned()).collect();
            return Ok(false);
        }
    }
    Ok(true)
}

fn kind(word: &str) -> ObjectKind {
    match word.trim() {
        "V" => ObjectKind::View,
        "P" | "PC" => ObjectKind::Procedure,
        "FN" | "IF" | "TF" | "FS" | "FT" => ObjectKind::Function,
        "SO" => ObjectKind::Sequence,
        "SN" => ObjectKind::Synonym,
        _ => ObjectKind::Table,
    }
}

/// An expression without the parentheses that the server keeps around it.
fn bare(mut expression: &str) -> &str {
    while let Some(inside) = expression.strip_prefix('(').and_then(|rest| rest.strip_suffix(')')) {
        // The first has to close with the last.
        let mut depth = 1_i32;
        if !inside.bytes().all(|byte| {
            depth += i32::from(byte == b'(') - i32::from(byte == b')');
            depth > 0
        }) {
            break;
        }
        expression = inside;
    }
    expression
}

/// The type that stands at this place of a row: its name, the most bytes, the digits and those behind the point.
fn type_name(row: &Row, at: usize) -> String {
    let name = field(row, at);
    let length: i64 = field(row, at + 1).parse().unwrap_or(0);
    let sized = |each: i64| match length {
        -1 => format!("{name}(max)"),
        length => format!("{name}({})", length / each),
    };
    match name {
        "nvarchar" | "nchar" => sized(2),
        "varchar" | "char" | "varbinary" | "binary" => sized(1),
        "decimal" | "numeric" => format!("{name}({},{})", field(row, at + 2), field(row, at + 3)),
        "datetime2" | "datetimeoffset" | "time" => format!("{name}({})", field(row, at + 3)),
        _ => name.to_owned(),
    }
}

fn column(catalog: &mut Catalog, row: &Row) {
    let object = catalog.object(field(row, 0), field(row, 1), kind(field(row, 2)));
    let name = field(row, 3);
    if name.is_empty() {
        return;
    }
    let computed = field(row, 11);
    let generated = match (computed.is_empty(), field(row, 9) == "1") {
        (false, _) => Some(bare(computed).to_owned()),
        (true, true) => Some("identity".to_owned()),
        _ => None,
    };
    let collated = field(row, 14);
    object.columns.push(Column {
        name: name.to_owned(),
        db_type: match collated.is_empty() {
            true => type_name(row, 4),
            false => format!("{} collate {collated}", type_name(row, 4)),
        },
        nullable: field(row, 8) == "1",
        key: false,
        default: Some(bare(field(row, 10)).to_owned()).filter(|default| !default.is_empty()),
        generated,
        comment: field(row, 12).to_owned(),
        ..Column::default()
    });
}

fn about(catalog: &mut Catalog, row: &Row) {
    let Some(object) = catalog.relation_mut(field(row, 0), field(row, 1)) else { return };
    object.comment = field(row, 2).to_owned();
    (object.rows, object.bytes) = (field(row, 3).parse().ok(), field(row, 4).parse().ok());
}

fn index(catalog: &mut Catalog, row: &Row) {
    let Some(table) = catalog.relation_mut(field(row, 0), field(row, 1)) else { return };
    let (name, column) = (field(row, 2), field(row, 6));
    let rule = match (field(row, 4), field(row, 5)) {
        ("1", _) => Some(Rule::Primary),
        (_, "1") => Some(Rule::Unique),
        _ => None,
    };
    if let Some(rule) = rule {
        if rule == Rule::Primary
            && let Some(key) = table.columns.iter_mut().find(|known| known.name == column)
        {
            key.key = true;
        }
        match table.constraints.iter_mut().find(|known| known.name == name) {
            Some(known) => known.columns.push(column.to_owned()),
            None => {
                table.constraints.push(Constraint::new(name.to_owned(), vec![column.to_owned()], rule));
            }
        }
        return;
    }
    let included = field(row, 8) == "1";
    let over = match (included, field(row, 7)) {
        (true, _) => format!("include {column}"),
        (false, "1") => format!("{column} desc"),
        _ => column.to_owned(),
    };
    if let Some(known) = table.indexes.last_mut().filter(|known| known.name == name) {
        known.over.push(over);
    } else {
        let unique = field(row, 3) == "1";
        table.indexes.push(Index {
            name: name.to_owned(),
            over: vec![over],
            unique,
            definition: String::new(),
            note: String::new(),
        });
    }
    let own = format!("{}.{}", SQLSERVER.name_as_written(&table.schema), SQLSERVER.name_as_written(&table.name));
    if let Some(known) = table.indexes.last_mut() {
        known.definition = definition_of(known, &own, field(row, 10), field(row, 9));
    }
}

/// The statement that makes an index.
fn definition_of(index: &Index, table: &str, described: &str, filter: &str) -> String {
    let (included, keys): (Vec<&String>, Vec<&String>) =
        index.over.iter().partition(|over| over.starts_with("include "));
    let list = |all: &[&String]| {
        let all: Vec<_> = all.iter().map(|over| over.strip_prefix("include ").unwrap_or(over)).collect();
        all.join(", ")
    };
    let unique = if index.unique { "unique " } else { "" };
    let how = match described {
        "CLUSTERED" => "clustered ",
        "CLUSTERED COLUMNSTORE" => "clustered columnstore ",
        "NONCLUSTERED COLUMNSTORE" => "columnstore ",
        _ => "",
    };
    let mut text =
        format!("create {unique}{how}index {} on {table} ({})", SQLSERVER.name_as_written(&index.name), list(&keys));
    if !included.is_empty() {
        text.push_str(&format!(" include ({})", list(&included)));
    }
    if !filter.is_empty() {
        text.push_str(&format!(" where {}", bare(filter)));
    }
    text
}

fn foreign(catalog: &mut Catalog, row: &Row) {
    let Some(table) = catalog.relation_mut(field(row, 0), field(row, 1)) else { return };
    let (name, column, there) = (field(row, 2), field(row, 3).to_owned(), field(row, 6).to_owned());
    if let Some(known) = table.constraints.iter_mut().find(|known| known.name == name) {
        known.columns.push(column);
        if let Rule::Foreign { columns, .. } = &mut known.rule {
            columns.push(there);
        }
        return;
    }
    let actions =
        [("delete", 7), ("update", 8)].map(|(event, at)| (event, field(row, at).replace('_', " ").to_lowercase()));
    let said = actions.iter().filter(|(_, action)| !matches!(action.as_str(), "no action" | ""));
    let actions: Vec<_> = said.map(|(event, action)| format!("on {event} {action}")).collect();
    let to = Name { schema: field(row, 4).to_owned(), name: field(row, 5).to_owned() };
    let rule = Rule::Foreign { to, columns: vec![there], actions: actions.join(" ") };
    table.constraints.push(Constraint::new(name.to_owned(), vec![column], rule));
}

fn trigger(catalog: &mut Catalog, row: &Row) {
    let Some(table) = catalog.relation_mut(field(row, 0), field(row, 1)) else { return };
    let (name, event) = (field(row, 2), field(row, 4).to_lowercase());
    if let Some(known) = table.triggers.iter_mut().find(|known| known.name == name) {
        known.when.push_str(&format!(", {event}"));
        return;
    }
    let when = if field(row, 3) == "1" { "instead of" } else { "after" };
    table.triggers.push(Trigger {
        name: name.to_owned(),
        when: format!("{when} {event}"),
        definition: field(row, 5).trim().to_owned(),
        ..Trigger::default()
    });
}

fn routine(catalog: &mut Catalog, row: &Row) {
    let kind = kind(field(row, 2));
    let object = catalog.object(field(row, 0), field(row, 1), kind);
    if object.signature.is_empty() {
        object.signature = match (kind, field(row, 2).trim()) {
            (ObjectKind::Function, "IF" | "TF" | "FT") => "() returns table".to_owned(),
            _ => "()".to_owned(),
        };
    }
    let told = type_name(row, 4);
    if told.is_empty() {
        return;
    }
    if field(row, 9) == "0" {
        object.signature.push_str(&format!(" returns {told}"));
        return;
    }
    let out = if field(row, 8) == "1" { " output" } else { "" };
    let takes = format!("{} {told}{out}", field(row, 3));
    let Some((inside, behind)) = object.signature.rsplit_once(')') else { return };
    let between = if inside.ends_with('(') { "" } else { ", " };
    object.signature = format!("{inside}{between}{takes}){behind}");
}

/// The statement that makes an object, by the server's own word; of a table it has none.
pub fn definition(session: &mut SqlServerSession, of: &Object) -> Result<Option<String>, EngineError> {
    let text = |text: &str| SQLSERVER.text_as_written(text);
    let rows = session.ask(&format!(
        "select m.definition from sys.sql_modules m join sys.objects o on o.object_id = m.object_id \
         join sys.schemas s on s.schema_id = o.schema_id where s.name = {} and o.name = {}",
        text(&of.schema),
        text(&of.name)
    ))?;
    let found = rows.first().map(|row| field(row, 0).trim().to_owned()).filter(|text| !text.is_empty());
    let name = format!("{}.{}", SQLSERVER.name_as_written(&of.schema), SQLSERVER.name_as_written(&of.name));
    Ok(found.or_else(|| match of.kind {
        ObjectKind::Synonym => Some(format!("create synonym {name} {}", of.clauses)),
        ObjectKind::Type if of.clauses.starts_with("from ") => Some(format!("create type {name} {}", of.clauses)),
        _ => None,
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parentheses_around_all_of_it_are_left_out() {
        assert_eq!(
            ["((0))", "(getdate())", "(a)+(b)", "", "('x')"].map(bare),
            ["0", "getdate()", "(a)+(b)", "", "'x'"]
        );
    }

    #[test]
    fn arguments_and_results_make_a_signature() {
        let mut catalog = Catalog::default();
        let row = |texts: [&str; 10]| texts.map(str::to_owned).to_vec();
        routine(&mut catalog, &row(["dbo", "f", "FN", "", "int", "4", "10", "0", "0", "0"]));
        routine(&mut catalog, &row(["dbo", "f", "FN", "@a", "nvarchar", "80", "0", "0", "0", "1"]));
        routine(&mut catalog, &row(["dbo", "f", "FN", "@b", "decimal", "9", "12", "2", "1", "2"]));
        assert_eq!(catalog.objects()[0].signature, "(@a nvarchar(40), @b decimal(12,2) output) returns int");
    }
}
