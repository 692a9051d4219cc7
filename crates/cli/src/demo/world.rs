//! Makes the database of Saltmarsh Line. The same every time: all chance comes from one seed.

use std::path::Path;

use rusqlite::{Connection, params};

use super::names::{FIRST, INCIDENTS, LAST, PORTS, ROLES, VESSELS};

/// Rows of engine telemetry.
pub const TELEMETRY: i64 = 500_000;
const SAILINGS: i64 = 9_000;
const BOOKINGS: i64 = 60_000;
/// The first day of the timetable, in seconds since 1970: 2031-03-01, a day that belongs to nobody.
const FIRST_DAY: i64 = 1_930_089_600;
const SEED: u64 = 0x5a17_0a25_11e0_f327;

/// Random numbers by the splitmix64 algorithm.
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A number from 0 up to `n`, without it.
    fn below(&mut self, n: i64) -> i64 {
        (self.next() % n.max(1) as u64) as i64
    }

    /// A number from -1 to 1, nearer to 0 more often.
    fn wobble(&mut self) -> f64 {
        (self.below(2001) + self.below(2001) - 2000) as f64 / 2000.0
    }

    fn one_in(&mut self, n: i64) -> bool {
        self.below(n) == 0
    }

    fn of<'a, T>(&mut self, all: &'a [T]) -> &'a T {
        &all[self.below(all.len() as i64) as usize]
    }

    fn person(&mut self) -> String {
        format!("{} {}", self.of(FIRST), self.of(LAST))
    }
}

/// Makes the database at `path`, which must not exist.
pub fn make(path: &Path) -> rusqlite::Result<()> {
    let mut connection = Connection::open(path)?;
    connection.query_row("pragma journal_mode = memory", [], |_| Ok(()))?;
    connection.execute_batch("pragma synchronous = off;")?;
    let transaction = connection.transaction()?;
    transaction.execute_batch(include_str!("schema.sql"))?;
    let mut chance = Chance(SEED);
    ports(&transaction, &mut chance)?;
    vessels(&transaction, &mut chance)?;
    routes(&transaction, &mut chance)?;
    sailings(&transaction, &mut chance)?;
    bookings(&transaction, &mut chance)?;
    incidents(&transaction, &mut chance)?;
    telemetry(&transaction, &mut chance)?;
    transaction.execute_batch(include_str!("triggers.sql"))?;
    transaction.commit()?;
    connection.execute_batch("pragma optimize;")?;
    connection.close().map_err(|(_, error)| error)
}

/// A moment as SQLite's date functions write it.
fn moment(seconds: i64) -> String {
    let (day, second) = (seconds.div_euclid(86_400), seconds.rem_euclid(86_400));
    // Days to a date, by the era-based algorithm for the proleptic Gregorian calendar.
    let z = day + 719_468;
    let era = z.div_euclid(146_097);
    let doe = z.rem_euclid(146_097);
    let yoe = (doe - doe / 1460 + doe / 36_524 - doe / 146_096) / 365;
    let doy = doe - (365 * yoe + yoe / 4 - yoe / 100);
    let mp = (5 * doy + 2) / 153;
    let (d, m) = (doy - (153 * mp + 2) / 5 + 1, if mp < 10 { mp + 3 } else { mp - 9 });
    let year = yoe + era * 400 + i64::from(m <= 2);
    format!("{year:04}-{m:02}-{d:02} {:02}:{:02}:{:02}", second / 3600, second / 60 % 60, second % 60)
}

fn ports(db: &Connection, chance: &mut Chance) -> rusqlite::Result<()> {
    let mut insert = db.prepare("insert into ports values (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)")?;
    for (id, (code, name, local, latitude, longitude, note)) in (1_i64..).zip(PORTS) {
        insert.execute(params![id, code, name, local, latitude, longitude, 2 + chance.below(7), note])?;
    }
    Ok(())
}

fn vessels(db: &Connection, chance: &mut Chance) -> rusqlite::Result<()> {
    let mut insert = db.prepare("insert into vessels values (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)")?;
    let mut hire =
        db.prepare("insert into crew(vessel_id, reports_to, name, role, joined_on) values (?1, ?2, ?3, ?4, ?5)")?;
    for (id, (name, built, length, passengers, cars)) in (1_i64..).zip(VESSELS) {
        let particulars = format!(
            r#"{{"engines":{},"call_sign":"SQ{id}{}","colours":["marsh green","cream"],"refit":{}}}"#,
            2 + id % 3,
            ["ALDER", "BELL", "CREEK"][id as usize % 3],
            if chance.one_in(3) { "null".to_owned() } else { (2020 + chance.below(10)).to_string() },
        );
        let pennant: Vec<u8> = (0..64).map(|_| chance.below(256) as u8).collect();
        let pennant = (!chance.one_in(4)).then_some(pennant);
        insert.execute(params![id, name, built, length, passengers, cars, particulars, pennant])?;
        let mut master = None;
        for (rank, role) in ROLES.iter().enumerate() {
            for _ in 0..(1 + rank / 3 * 4) {
                let joined = moment(FIRST_DAY - 86_400 * chance.below(6000));
                hire.execute(params![id, master, chance.person(), role, &joined[..10]])?;
                if rank == 0 {
                    master = Some(db.last_insert_rowid());
                }
            }
        }
    }
    Ok(())
}

fn routes(db: &Connection, chance: &mut Chance) -> rusqlite::Result<()> {
    let mut insert = db.prepare("insert into routes values (?1, ?2, ?3, ?4, ?5, ?6)")?;
    let mut price =
        db.prepare("insert into fares(route_id, class, price, valid_from, valid_to) values (?1, ?2, ?3, ?4, ?5)")?;
    let count = PORTS.len() as i64;
    let mut id = 0;
    for from in 1..=count {
        for step in [1, 3, 5] {
            let to = (from + step - 1) % count + 1;
            let miles = 18 + chance.below(110);
            id += 1;
            let name = format!("{}–{}", PORTS[from as usize - 1].0, PORTS[to as usize - 1].0);
            insert.execute(params![id, from, to, name, miles, miles * 3 + 10 + chance.below(20)])?;
            for (class, factor) in [("deck", 1.0), ("cabin", 2.4), ("car", 3.1), ("bicycle", 0.3)] {
                let amount = (miles as f64 * 0.55 * factor * 20.0).round() / 20.0;
                price.execute(params![id, class, amount, "2031-01-01", None::<&str>])?;
            }
        }
    }
    Ok(())
}

fn sailings(db: &Connection, chance: &mut Chance) -> rusqlite::Result<()> {
    let routes: i64 = db.query_row("select count(*) from routes", [], |row| row.get(0))?;
    let mut insert = db.prepare("insert into sailings values (?1, ?2, ?3, ?4, ?5, ?6, ?7)")?;
    for id in 1..=SAILINGS {
        let departs = FIRST_DAY + id * 3450 + 300 * chance.below(6);
        let status = match chance.below(40) {
            0 => "cancelled",
            1..=5 => "late",
            _ => "on time",
        };
        let delay = match status {
            "late" => Some(5 + chance.below(120)),
            "on time" => Some(chance.below(4)),
            _ => None,
        };
        let route = 1 + chance.below(routes);
        let vessel = 1 + chance.below(VESSELS.len() as i64);
        let arrives = (status != "cancelled").then(|| moment(departs + 5400 + 60 * delay.unwrap_or(0)));
        insert.execute(params![id, route, vessel, moment(departs), arrives, status, delay])?;
    }
    Ok(())
}

fn bookings(db: &Connection, chance: &mut Chance) -> rusqlite::Result<()> {
    let mut insert = db.prepare("insert into bookings values (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)")?;
    const WISHES: &[&str] = &[
        "window seat",
        "travels with a cello",
        "two greyhounds, quiet",
        "assistance at the ramp",
        "vegetarian; no seaweed",
    ];
    for id in 1..=BOOKINGS {
        let reference = format!("{:05X}", (id * 7919 + 104_729) % 1_048_576);
        let seats = 1 + chance.below(6);
        let class = *chance.of(&["deck", "deck", "deck", "cabin", "car", "bicycle"]);
        let paid = (!chance.one_in(12)).then(|| (seats * (900 + chance.below(4200))) as f64 / 100.0);
        let extras = chance.one_in(5).then(|| {
            format!(
                r#"{{"meals":{},"lounge":{},"pets":[{}]}}"#,
                chance.below(4),
                chance.one_in(3),
                if chance.one_in(2) { "\"dog\"" } else { "" }
            )
        });
        let remark = if chance.one_in(3000) {
            Some(
                "Long remark: ".to_owned()
                    + &"the passenger asks that the crew be told about the piano, its legs, its lid and its tuning. "
                        .repeat(12),
            )
        } else {
            chance.one_in(9).then(|| (*chance.of(WISHES)).to_owned())
        };
        let booked = moment(FIRST_DAY - 86_400 * 30 + id * 520 + chance.below(500));
        let sailing = 1 + chance.below(SAILINGS);
        insert.execute(params![id, sailing, reference, chance.person(), class, seats, paid, booked, remark])?;
        if let Some(extras) = extras {
            db.prepare_cached("insert into booking_extras values (?1, ?2)")?.execute(params![id, extras])?;
        }
    }
    Ok(())
}

fn incidents(db: &Connection, chance: &mut Chance) -> rusqlite::Result<()> {
    let mut insert =
        db.prepare("insert into incidents(sailing_id, at, what, severity, report) values (?1, ?2, ?3, ?4, ?5)")?;
    for number in 0..400 {
        let (what, severity) = *chance.of(INCIDENTS);
        let sailing = 1 + chance.below(SAILINGS);
        let writer = chance.person();
        let report = (!chance.one_in(6)).then(|| {
            format!("Reported by {writer}.\nThe watch noticed {what} at bearing {:03}°.\n\tSpeed was reduced; entry {number} in the paper log.", chance.below(360))
        });
        insert.execute(params![
            sailing,
            moment(FIRST_DAY + 86_400 * chance.below(350) + chance.below(86_400)),
            what,
            severity,
            report
        ])?;
    }
    Ok(())
}

fn telemetry(db: &Connection, chance: &mut Chance) -> rusqlite::Result<()> {
    let mut insert = db.prepare("insert into telemetry values (?1, ?2, ?3, ?4, ?5, ?6, ?7)")?;
    let vessels = VESSELS.len() as i64;
    for id in 1..=TELEMETRY {
        let vessel = id % vessels + 1;
        let at = moment(FIRST_DAY + id / vessels * 60);
        let load = 0.55 + 0.4 * chance.wobble();
        let rpm = (420.0 + 380.0 * load).round();
        let fuel = ((40.0 + 310.0 * load * load) * 10.0).round() / 10.0;
        let coolant =
            (!chance.one_in(400)).then(|| ((68.0 + 18.0 * load + 2.0 * chance.wobble()) * 10.0).round() / 10.0);
        let note = chance
            .one_in(5000)
            .then(|| *chance.of(&["sensor cold", "bilge alarm silenced", "hand reading", "clock set"]));
        insert.execute(params![id, vessel, at, rpm as i64, fuel, coolant, note])?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_are_dates() {
        assert_eq!(moment(0), "1970-01-01 00:00:00");
        assert_eq!(moment(951_782_400), "2000-02-29 00:00:00");
        assert_eq!(moment(FIRST_DAY + 86_399), "2031-03-01 23:59:59");
    }

    #[test]
    fn the_world_is_whole_and_always_the_same() {
        let folder = tempfile::tempdir().unwrap();
        let facts = |name: &str| {
            let path = folder.path().join(name);
            make(&path).unwrap();
            let db = Connection::open(&path).unwrap();
            let one = |sql: &str| db.query_row(sql, [], |row| row.get::<_, i64>(0)).unwrap();
            assert!(one("select count(*) from telemetry") >= 500_000);
            assert_eq!(one("select count(*) from pragma_foreign_key_check"), 0);
            assert!(one("select count(*) from bookings where paid is null") > 0);
            assert!(one("select max(length(remark)) from bookings") > 1000);
            assert!(one("select count(*) from vessels where pennant is not null") > 0);
            assert_eq!(one("select sum(json_valid(extras)) = count(*) from booking_extras"), 1);
            assert!(one("select count(*) from sqlite_schema where type = 'trigger'") >= 2);
            db.query_row("select sum(rpm), total(fuel_lph), group_concat(distinct note) from telemetry", [], |row| {
                Ok((row.get::<_, i64>(0)?, row.get::<_, f64>(1)?.to_bits(), row.get::<_, String>(2)?))
            })
            .unwrap()
        };
        assert_eq!(facts("a.db"), facts("b.db"));
    }
}
