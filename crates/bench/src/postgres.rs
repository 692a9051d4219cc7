//! A private PostgreSQL with a large table, and the bare driver reading it.

use std::error::Error;
use std::pin::pin;
use std::time::{Duration, Instant};

use futures_util::StreamExt;
use jaunty_testservers::{PASSWORD, Postgres};
use tokio::runtime::Builder;
use tokio_postgres::types::{FromSql, Type};
use tokio_postgres::{Config, NoTls};

/// A server with so many rows of five types in `t`, numbered from 1.
pub fn table(rows: u64) -> Postgres {
    // What it does by itself would be measured too.
    let server = Postgres::with(&[
        "wal_level=minimal",
        "max_wal_senders=0",
        "max_wal_size=8GB",
        "shared_buffers=512MB",
        "autovacuum=off",
    ]);
    server.sql(&format!(
        "create unlogged table t as select i::int id, 'row-'||lpad(i::text,16,'0') name, (i%100000000/100.0)::numeric(10,2) amount,
         timestamptz '2031-01-01'+i*interval '1 second' ts, i%3=0 ok from generate_series(1,{rows}) i"
    ));
    server
}

/// A value as it came, touched.
struct Touched(u64);

impl<'a> FromSql<'a> for Touched {
    fn from_sql(_: &Type, raw: &'a [u8]) -> Result<Self, Box<dyn Error + Sync + Send>> {
        Ok(Touched(raw.len() as u64 + u64::from(raw.last().copied().unwrap_or(0))))
    }
    fn accepts(_: &Type) -> bool {
        true
    }
}

/// The bare driver's loop, up to so many rows: how long it took from sending the statement.
pub fn bare(port: u16, statement: &str, most: u64) -> Result<(u64, Duration), Box<dyn Error>> {
    let runtime = Builder::new_current_thread().enable_all().build()?;
    runtime.block_on(async {
        let mut config = Config::new();
        config.host("127.0.0.1").port(port).user("clerk").password(PASSWORD).dbname("bookings");
        let (client, connection) = config.connect(NoTls).await?;
        tokio::spawn(connection);
        let begun = Instant::now();
        let rows = client.query_raw::<_, &str, _>(statement, []).await?;
        let mut rows = pin!(rows);
        let (mut count, mut touched) = (0, 0_u64);
        while let Some(row) = rows.next().await {
            let row = row?;
            for column in 0..row.len() {
                touched = touched.wrapping_add(row.try_get::<_, Option<Touched>>(column)?.map_or(0, |t| t.0));
            }
            count += 1;
            if count >= most {
                break;
            }
        }
        let took = begun.elapsed();
        std::hint::black_box(touched);
        Ok((count, took))
    })
}
