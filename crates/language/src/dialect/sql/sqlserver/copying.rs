//! How a database is written as statements that make it again, by the documentation of `SET`, of `DBCC CHECKIDENT` and of the
//! catalog views: <https://learn.microsoft.com/en-us/sql/relational-databases/system-catalog-views/catalog-views-transact-sql>.

use crate::dialect::changing::Copying;

/// One state of all rows. Where the database keeps versions of rows others write meanwhile; else they wait.
const ISOLATION: &str = "\
select concat('set transaction isolation level ', case snapshot_isolation_state when 1 then 'snapshot' else 'serializable' end) as statement \
from sys.databases where name = db_name()";

/// What views and indexes over expressions need, and how days are read whatever the language of a login.
const SETTINGS: &str = "\
set ansi_nulls, ansi_padding, ansi_warnings, ansi_null_dflt_on, arithabort, concat_null_yields_null, quoted_identifier on";

/// What no statement is written for: kinds with how many there are, and tables that come back as plain ones.
const UNWRITTEN: &str = "\
select w.what from (\
select concat('table ', s.name, '.', t.name, ': it keeps its own history; it comes back as a plain table') as what \
from sys.tables t join sys.schemas s on s.schema_id = t.schema_id where t.temporal_type = 2 \
union all select concat('table ', s.name, '.', t.name, ': it is in memory; it comes back as a plain table') \
from sys.tables t join sys.schemas s on s.schema_id = t.schema_id where t.is_memory_optimized = 1 \
union all select concat('table ', s.name, '.', t.name, ': its rows are elsewhere; they come into a plain table') \
from sys.tables t join sys.schemas s on s.schema_id = t.schema_id where t.is_external = 1 or t.is_filetable = 1 \
union all select distinct concat('table ', s.name, '.', t.name, ': it is divided into partitions; it comes back in one') \
from sys.tables t join sys.schemas s on s.schema_id = t.schema_id join sys.indexes i on i.object_id = t.object_id join sys.partition_schemes p on p.data_space_id = i.data_space_id \
union all select concat('column ', s.name, '.', t.name, '.', c.name, ': values of sql_variant are written as texts') \
from sys.columns c join sys.tables t on t.object_id = c.object_id join sys.schemas s on s.schema_id = t.schema_id where c.system_type_id = 98 \
union all select concat('index ', i.name, ' of ', s.name, '.', t.name, ' (', lower(i.type_desc), ') cannot be written yet') \
from sys.indexes i join sys.tables t on t.object_id = i.object_id join sys.schemas s on s.schema_id = t.schema_id where i.type in (3, 4, 7, 8, 9) \
union all select concat('triggers of the database (', count(*), ') cannot be written yet') from sys.triggers where parent_class = 0 having count(*) > 0 \
union all select concat('full-text catalogs (', count(*), ') cannot be written yet') from sys.fulltext_catalogs having count(*) > 0 \
union all select concat('collections of XML schemas (', count(*), ') cannot be written yet') from sys.xml_schema_collections where schema_id <> 4 having count(*) > 0 \
union all select concat('assemblies (', count(*), ') cannot be written yet') from sys.assemblies where is_user_defined = 1 having count(*) > 0 \
union all select concat('statistics made by somebody (', count(*), ') cannot be written yet') from sys.stats where user_created = 1 having count(*) > 0 \
union all select concat('extended properties other than descriptions of tables and columns (', count(*), ') cannot be written yet') \
from sys.extended_properties e where (e.name <> 'MS_Description' or e.class <> 1) and e.class <> 0 having count(*) > 0\
) w order by w.what";

pub(super) const COPYING: Copying = Copying {
    asked_first: ISOLATION,
    snapshot: &["begin transaction"],
    afterwards: "set transaction isolation level read committed",
    // The server takes the bytes of these types for a value of them; their text has not all of it.
    exactly: &[
        ("geography", "cast(NAME as varbinary(max))"),
        ("geometry", "cast(NAME as varbinary(max))"),
        ("hierarchyid", "cast(NAME as varbinary(max))"),
    ],
    only: "",
    beside: ["", UNWRITTEN],
    access: "",
    around: [&[SETTINGS, "set numeric_roundabort off", "set dateformat ymd"], &[]],
    keys_after: true,
    schemas_are_databases: false,
    // A table that has had no row since it was made begins with the number that it is given, any other after it.
    goes_on: [
        "select cast(case when exists (select 1 from TABLE_NAME) then cast(i.last_value as decimal(38)) \
         else cast(i.last_value as decimal(38)) + cast(i.increment_value as decimal(38)) end as varchar(50)) as n, '' as called \
         from sys.identity_columns i where i.object_id = object_id(TABLE_TEXT) and i.last_value is not null",
        "dbcc checkident (TABLE_TEXT, reseed, VALUE)",
    ],
    // The number it is at may not have been given out yet: one may be left out, none comes twice.
    sequence: [
        "select cast(case when is_exhausted = 1 and is_cycling = 0 then cast(current_value as decimal(38)) \
         when is_exhausted = 1 and cast(increment as decimal(38)) > 0 then cast(minimum_value as decimal(38)) \
         when is_exhausted = 1 then cast(maximum_value as decimal(38)) \
         else cast(current_value as decimal(38)) + cast(increment as decimal(38)) end as varchar(50)) as n, '' as called \
         from sys.sequences where object_id = object_id(TEXT)",
        "alter sequence NAME restart with VALUE",
    ],
    unchecked: "with nocheck ",
    made_with: ["SETTINGS", "set ansi_nulls, quoted_identifier on"],
};
