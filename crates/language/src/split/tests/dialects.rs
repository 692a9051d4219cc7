//! Examples of each dialect. `¦` marks where a new statement must begin.

use crate::dialect::{DOCUMENTS, MYSQL, POSTGRES, REDIS, SQLITE, SQLSERVER};
use crate::outline::{Change, Outline};
use crate::split::*;

fn check(dialect: &'static Dialect, examples: &[&str]) {
    for example in examples {
        let text = example.replace('¦', "");
        let rope = Rope::from_str(&text);
        let starts: Vec<_> = statements(&rope, dialect, 0).map(|s| s.start).collect();
        let mut at = 0;
        let marked: Vec<_> = example
            .split('¦')
            .map(|part| {
                let start = at;
                at += part.len();
                start
            })
            .collect();
        assert_eq!(starts, marked, "{}: {example}", dialect.name);
        assert!(statements(&rope, dialect, 0).all(|s| s.closed), "{example}");
    }
}

#[test]
fn postgres() {
    check(
        &POSTGRES,
        &[
            "select 1;¦select 2",
            "do $$ begin perform 1; end $$;¦select 1",
            "create function f() returns int language sql as $body$ select 1; select $$;$$::int; $body$;¦select 2",
            "select $1;¦select a$b$c, $tag$;$tag$ from t;¦select 3",
            "select e'it\\'s; -- no' as a;¦select 'c:\\';¦select 2",
            "select U&\"d\\0061t;a\", U&'x;y';¦select 1",
            "select 1 /* a /* b; */ c; */;¦select 2",
            "create function f(a int) returns int begin atomic select 1; select case when a > 1 then 2 else 3 end; end;¦select 2",
            "create or replace procedure p() begin atomic insert into t values (1); end;¦call p()",
            "copy ports (id, name) from stdin;\n1\tO'Hara's\n2\t;select\n\\.\n¦select 1",
            "copy ports to stdout;¦select 1",
            "\\d ports\n¦select 1;\n¦\\dt",
            "select a from t\n\n¦delete from t where a = 1",
            "select a\ndelete from t",
            "select a from t\n¦update t set b = 1\nwhere a = 2",
            "update t\nset a = 1;¦set search_path to east",
            "select a from t for\nupdate",
            "insert into t values (1) on conflict (a) do\nupdate set b = 1;¦select 1",
            "with a as materialized (\nselect 1)\nselect * from a\n¦with b as (select 2) select * from b",
            "explain (analyze, buffers)\nselect 1\n¦select 2",
            "select 'a'::text, b->>'c', d @> e from t where f ~* 'x'\n¦truncate table t",
            "create view v as\nselect 1\n¦select * from v",
            "alter table t alter column a\nset default 1;¦select 1",
            "begin\n;¦commit",
        ],
    );
}

#[test]
fn documents() {
    check(
        &DOCUMENTS,
        &[
            "sailings\n| match { a: 1 }\n| limit 5\n\n¦ports find {\n\n  a: 1\n}",
            "{ ping: 1 };¦{ find: 'a;\n\nb' }\n\n// Ports\n¦ports",
            "sailings insert { a: [\n\n1] } // why\n{ b: 2 }",
        ],
    );
}

#[test]
fn sqlserver() {
    check(
        &SQLSERVER,
        &[
            "select 1\n¦select 2",
            "select 1;¦select 2\ngo\n¦select 3\nGO 5\n¦select 4\n  go -- done\n",
            "select go from t\nwhere a = 1",
            "select 'a\ngo\nb'\n¦select 2",
            "declare @a int = 1, @b nvarchar(10) = N'x;y'\n¦set @a = 2\n¦select @a, @@rowcount",
            "select [a;b], [c]]d] from [dbo].[t] -- ;\n¦select 2",
            "create procedure p @a int as\nbegin\n  select 1; select 2\nend\nselect 3\ngo\n¦select 4",
            "create or alter proc p as select 1;\nselect 2;\ngo\n¦exec p",
            "alter view v as\nselect 1\ngo\n¦select * from v",
            "create function f(@a int) returns int as begin return @a; end\ngo\n¦select dbo.f(1)",
            "create trigger g on t after insert, update as\nset nocount on;\ninsert into log select id from inserted;\ngo\n¦select 1",
            "if @a = 1\n  select 1\nelse\n  select 2\n¦select 3",
            "if exists (select 1 from t)\n  delete from t;\nelse\n  insert into t\n  select 2;\n¦select 3",
            "if @a = 1 begin select 1; select 2 end else begin\nselect case when 1 = 1 then 2 end\nend\n¦select 3",
            "if @a = 1\nif @b = 2\nprint 'x'\n¦print case when 1 = 1 then 'a' else 'b' end\n¦select 1",
            "while @a < 5\nbegin\n  set @a += 1\n  if @a = 3 break\nend\n¦select @a",
            "while @a < 5\n  set @a = @a + 1\n¦select @a",
            "begin try\n  select 1/0\nend try\nbegin catch\n  select error_message()\n  ;throw\nend catch\n¦select 2",
            "begin tran\n¦update t set a = 1\nfrom t\nwhere b = 2\n¦commit",
            "begin transaction\n¦save transaction here\n¦rollback transaction here\n¦rollback",
            "begin\n  begin tran\n  select 1\n  commit\nend\n¦select 2",
            "insert into t (a)\noutput inserted.id\nselect 1\n¦select 2",
            "insert into t\nexec p @a = 1\n¦exec p",
            "insert into t default\nvalues\n¦select 1",
            "merge into t using s on t.id = s.id\nwhen matched then\nupdate set a = 1\nwhen not matched then\ninsert (id) values (s.id)\nwhen not matched by source then\ndelete;\n¦select 1",
            "with a as (select 1 as x)\nselect * from a\n¦select 2",
            "select * from t with (nolock)\norder by a\noffset 5 rows\nfetch next 3 rows only\n¦select 2",
            "select 1 as a\ninto #t\n¦select * from #t\n¦drop table if exists\n#t",
            "alter table t\nadd c int\n¦alter table t\nalter column c bigint\n¦alter table t\ndrop column c",
            "declare c cursor for\nselect a from t\n¦open c\n¦fetch next from c into @a\n¦close c\n¦deallocate c",
            "create table t (id int references s on\ndelete cascade)\n¦create index i on t (a)\nwhere a = 1\n¦use ferry\n¦set nocount on",
            "grant\nselect on t to clerk\n¦deny\nupdate on t to clerk",
            "select top (5) a from t cross apply (select 1 as b) x\n¦waitfor delay '00:00:01'\n¦raiserror('fog', 10, 1) with nowait",
            "sp_help 'ports'\ngo\n¦exec sp_who",
            "create user clerk for login clerk\nwith default_schema = dbo\n¦select 1",
            "select a from t for xml path('a')\n¦select a from t\nfor json auto",
        ],
    );
}

/// What a server takes as one statement is one, however its lines are broken.
#[test]
fn nothing_is_cut_that_is_one() {
    for (dialect, statements) in [
        (&POSTGRES, include_str!("corpus/postgres.sql")),
        (&MYSQL, include_str!("corpus/mysql.sql")),
        (&SQLITE, include_str!("corpus/sqlite.sql")),
    ] {
        for statement in statements.lines().filter(|line| !line.starts_with("--")) {
            for gap in ["\n", "\n\n", "\n\n-- a title\n"] {
                // Below a title a word by itself begins a statement (rule 3), and a name may be such a word.
                let text = statement.replace(' ', gap);
                let rope = Rope::from_str(&text);
                let found: Vec<_> = super::statements(&rope, dialect, 0).map(|s| s.text(&rope)).collect();
                assert_eq!(found, [text.strip_suffix(';').unwrap_or(&text)], "{}", dialect.name);
            }
        }
    }
}

#[test]
fn mysql() {
    check(
        &MYSQL,
        &[
            "select 1;¦select 'it\\'s; # no', \"a;b\", `c;d`;¦select 2 # a; comment\n;¦select 5--1;¦select 3 -- x;y\n",
            "/*!40101 set names utf8mb4 */;¦select 1",
            "select 1 /* plain; */;¦select 2",
            "create procedure p() begin declare a int; if a > 1 then select 1; else select 2; end if; end;¦call p()",
            "create definer = `purser`@`quay` function f() returns int deterministic begin return case 1 when 1 then 2 end; end;¦select 1",
            "create trigger g before insert on t for each row begin set new.a = 1; while 1 do set @x = 2; end while; end;¦select 1",
            "create procedure p() deep: begin outer_loop: loop leave outer_loop; end loop; repeat set @a = 1; until 1 end repeat; end deep;¦select 1",
            "create procedure p() select 1;¦select 2",
            "begin not atomic select 1; select 2; end;¦select 3",
            "create table t (event int, kind int);¦select if(1, 2, 3)",
            "update t\nset a = 1;¦set names utf8mb4\n¦show tables",
            "insert into t set\na = 1\n¦replace into t values (1)",
            "insert into t values (1) on duplicate key\nupdate a = 2\n¦use ferry",
            "select a from t\n¦delete from t\n¦call p()",
            "alter table t\ndrop column a,\nadd b int;¦drop table t",
            "start transaction;¦commit",
        ],
    );
}

#[test]
fn another_delimiter_ends_statements_until_it_is_changed_back() {
    let text = "select 1;\nDELIMITER //\ncreate procedure p()\nbegin\n  select 1;\n  select 2;\nend//\n\nselect 3//\ndelimiter $$\nselect 4; end$$\nDELIMITER ;\nselect 5;\nselect 6";
    let rope = Rope::from_str(text);
    let found: Vec<_> = statements(&rope, &MYSQL, 0).map(|s| s.text(&rope)).collect();
    assert_eq!(
        found,
        [
            "select 1",
            "create procedure p()\nbegin\n  select 1;\n  select 2;\nend",
            "select 3",
            "select 4; end",
            "select 5",
            "select 6"
        ]
    );
}

#[test]
fn an_outline_follows_a_change_of_the_delimiter() {
    let before = "select 0;\nselect 1;\nselect 2;\nDELIMITER //\nselect 3; select 4//\nselect 5//\nselect 6//\n";
    let at = before.find("//").unwrap();
    let mut outline = Outline::new(&Rope::from_str(before), &MYSQL);
    let after = Rope::from_str(&before.replacen("//", ";", 1));
    outline.update(&after, Change { at, removed: 2, inserted: 1 });
    assert_eq!(outline.statements(), Outline::new(&after, &MYSQL).statements());
    assert_ne!(outline.statements().len(), Outline::new(&Rope::from_str(before), &MYSQL).statements().len());
}

#[test]
fn rows_of_a_copy_belong_to_it() {
    let text = "copy ports from stdin with (format csv);\n1,Saltmarsh\n\\.\nselect 1";
    let rope = Rope::from_str(text);
    let found: Vec<_> = statements(&rope, &POSTGRES, 0).map(|s| s.text(&rope)).collect();
    assert_eq!(found, ["copy ports from stdin with (format csv);\n1,Saltmarsh\n\\.", "select 1"]);
}

#[test]
fn redis() {
    check(
        &REDIS,
        &[
            "get port:1\n¦set port:2 \"two\\nlines; and ' quotes\"",
            "set a 'first\nsecond'\n¦hset b field#1 x;y",
            "eval \"return redis.call('get', KEYS[1])\" 1 a\n¦ping",
        ],
    );
    let text = "# The port\nget port:1\n\n# Another # one\n   lrange stops 0 -1   \n";
    let rope = Rope::from_str(text);
    let titles: Vec<_> = statements(&rope, &REDIS, 0).map(|s| (s.title_text(&rope, &REDIS), s.text(&rope))).collect();
    let title = |text: &str| Some(text.to_owned());
    assert_eq!(
        titles,
        [(title("The port"), "get port:1".to_owned()), (title("Another # one"), "lrange stops 0 -1".to_owned())]
    );
}

#[test]
fn what_sqlite_has_not_stays_as_it_was() {
    check(&SQLITE, &["select '$$;$$';¦select 1", "select 1;¦select \"a;b\";¦select [c;d]"]);
}
