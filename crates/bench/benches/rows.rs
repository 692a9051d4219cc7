//! What is done with kept rows, beside the bare Arrow kernels doing the same in memory: sorting by any
//! column, a free search, facts, and CSV.
//!
//! `cargo bench -p jaunty-bench --bench rows [-- [charts] [ROWS]]`: charts alone, or all of it.

#![allow(clippy::print_stdout)] // It is a report.

use std::error::Error;
use std::sync::Arc;
use std::time::{Duration, Instant};

use arrow_array::cast::AsArray;
use arrow_array::types::Float64Type;
use arrow_array::{
    ArrayRef, BooleanArray, Decimal128Array, Float64Array, Int64Array, RecordBatch, StringArray,
    TimestampMicrosecondArray,
};
use arrow_schema::{DataType, Field, Schema, TimeUnit};
use jaunty_bench::kernels::{searched, sorted};
use jaunty_core::archive::{Archive, Writer};
use jaunty_core::arrange::facts::facts;
use jaunty_core::arrange::pick::Part;
use jaunty_core::arrange::{Order, Progress, Wanted, arrange};
use jaunty_core::chart::gather::PartError;
use jaunty_core::chart::plot::{Texts, draw};
use jaunty_core::chart::{Gather, Kind, Spec};
use jaunty_core::export::file::write;
use jaunty_core::export::{Format, Options};
use jaunty_picture::Metrics;

type Outcome<T> = Result<T, Box<dyn Error>>;

const BATCH: usize = 8192;

fn main() -> Outcome<()> {
    let rows = std::env::args().skip(1).find_map(|word| word.parse().ok()).unwrap_or(5_000_000);
    let folder = tempfile::tempdir()?;
    let archive = made(folder.path(), rows)?;
    let size = std::fs::metadata(archive.path())?.len() >> 20;
    println!("{rows} rows of ten columns, {size} MiB on disk");

    if std::env::args().any(|word| word == "charts") {
        return charts(&archive);
    }
    let names: Vec<String> = archive.schema().fields().iter().map(|field| field.name().clone()).collect();
    let mut ours: Vec<(String, Duration)> = Vec::new();
    for (column, name) in names.iter().enumerate() {
        for descending in [false, true] {
            let wanted = Wanted { order: vec![Order { column, descending }], ..Wanted::default() };
            let way = if descending { "down" } else { "up" };
            let (took, peak) = measured(|| arrange(&archive, &wanted, &Progress::default()).map(|a| a.len()))?;
            println!("  sorted by {name} {way}: {} ms, peak {peak} MiB", took.as_millis());
            ours.push((format!("sort by {name} {way}"), took));
        }
    }
    for text in ["quay", "99999", "harrier 77"] {
        let wanted = Wanted { search: text.into(), ..Wanted::default() };
        let (took, peak) = measured(|| arrange(&archive, &wanted, &Progress::default()).map(|a| a.len()))?;
        println!("  searched for {text:?}: {} ms, peak {peak} MiB", took.as_millis());
        ours.push((format!("search {text:?}"), took));
    }
    for (column, name) in names.iter().enumerate() {
        let (took, peak) = measured(|| facts(&archive, None, column, &Progress::default()).map(|f| f.distinct))?;
        println!("  facts of {name}: {} ms, peak {peak} MiB", took.as_millis());
    }
    let part = Part::whole(Arc::clone(&archive));
    let mut sink = Counted(0);
    let (csv, peak) = measured(|| write(&part, Format::Csv, &Options::default(), &mut sink, &Progress::default()))?;
    println!("  as CSV: {} ms, {} MiB, peak {peak} MiB", csv.as_millis(), sink.0 >> 20);

    charts(&archive)?;

    // The floors: all rows in memory, and the kernels alone.
    let batches: Vec<RecordBatch> = archive.batches().collect::<Result<_, _>>()?;
    let whole = arrow_select::concat::concat_batches(&archive.schema(), &batches)?;
    let mut floors: Vec<Duration> = Vec::new();
    for column in whole.columns() {
        for descending in [false, true] {
            floors.push(sorted(column, descending)?);
        }
    }
    for text in ["quay", "99999", "harrier 77"] {
        floors.push(searched(&whole, text)?);
    }
    drop(whole);
    println!("ours ÷ the bare kernel (wanted: at most 3)");
    for ((what, took), floor) in ours.iter().zip(&floors) {
        println!("  {what}: {:.2}", took.as_secs_f64() / floor.as_secs_f64());
    }
    let begun = Instant::now();
    let mut writer = arrow_csv::Writer::new(Counted(0));
    for batch in &batches {
        writer.write(batch)?;
    }
    drop(writer);
    let floor = begun.elapsed();
    println!("CSV: arrow-csv ÷ ours {:.2} (wanted: at least 0.8)", floor.as_secs_f64() / csv.as_secs_f64());
    Ok(())
}

/// Lines of all rows, beside the kernel that only sums the column, both reading the archive.
fn charts(archive: &Arc<Archive>) -> Outcome<()> {
    for (x, order) in [("number", "in order"), ("departs_at", "in no order")] {
        let mut ratios = Vec::new();
        for _ in 0..5 {
            let begun = Instant::now();
            let mut sum = 0.0;
            for batch in archive.scan(Some(&[3]), 0..u64::MAX) {
                let column = Arc::clone(batch?.1.column(0));
                sum += arrow_arith::aggregate::sum(column.as_primitive::<Float64Type>()).unwrap_or_default();
            }
            std::hint::black_box(sum);
            let floor = begun.elapsed();
            let spec = Spec { kind: Some(Kind::Line), x: Some(x.into()), y: vec!["fare".into()], ..Spec::default() };
            let part = Part::whole(Arc::clone(archive));
            let mut data = None;
            let (took, peak) = measured(|| -> Result<_, PartError> {
                data = Some(Gather::part(&part, &spec, &Progress::default())?.0);
                Ok(())
            })?;
            let data = data.ok_or("nothing was gathered")?;
            let begun = Instant::now();
            std::hint::black_box(draw(&data, &spec, &Texts::default(), (280.0, 160.0), Metrics::TERMINAL));
            ratios.push((floor.as_secs_f64() / took.as_secs_f64(), peak, begun.elapsed()));
        }
        ratios.sort_by(|a, b| a.0.total_cmp(&b.0));
        if let Some((ratio, peak, drawn)) = ratios.get(2) {
            println!(
                "  a line of all rows by {x}, {order}: {ratio:.2} of the kernel that sums the column (wanted: at least 0.5), peak {peak} MiB, drawn in {:.1} ms",
                drawn.as_secs_f64() * 1e3
            );
        }
    }
    Ok(())
}

/// How long it takes, and the most memory that the program takes meanwhile, in MiB.
fn measured<T, E: Error + 'static>(act: impl FnOnce() -> Result<T, E>) -> Outcome<(Duration, u64)> {
    // Linux begins to count the peak anew.
    std::fs::write("/proc/self/clear_refs", "5")?;
    let begun = Instant::now();
    std::hint::black_box(act()?);
    let took = begun.elapsed();
    let status = std::fs::read_to_string("/proc/self/status")?;
    let peak = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap_or_default();
    let kib: u64 = peak.trim().trim_end_matches("kB").trim().parse()?;
    Ok((took, kib >> 10))
}

/// Counts what is written.
struct Counted(u64);

impl std::io::Write for Counted {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0 += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// Amounts with two digits behind the point.
fn decimals(values: impl Iterator<Item = i128>, precision: u8) -> Outcome<ArrayRef> {
    let values: Decimal128Array = values.map(Some).collect();
    Ok(Arc::new(values.with_precision_and_scale(precision, 2)?))
}

/// Sailings in no order: a key, a text that differs late, a text of few, a number, a time.
fn made(folder: &std::path::Path, rows: usize) -> Outcome<Arc<Archive>> {
    let schema = Arc::new(Schema::new(vec![
        Field::new("id", DataType::Int64, true),
        Field::new("remark", DataType::Utf8, true),
        Field::new("port", DataType::Utf8, true),
        Field::new("fare", DataType::Float64, true),
        Field::new("departs_at", DataType::Timestamp(TimeUnit::Microsecond, None), true),
        // In order already, and with few values: what kernels are quickest with.
        Field::new("number", DataType::Int64, true),
        Field::new("berth", DataType::Utf8, true),
        Field::new("open", DataType::Boolean, true),
        Field::new("price", DataType::Decimal128(10, 2), true),
        Field::new("total", DataType::Decimal128(24, 2), true),
    ]));
    let ports = ["Saltmarsh Quay", "Gullhaven", "Emberwick", "Lanternhook", "Fyrlund", "Oystergate"];
    let mixed = |n: usize| (n as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 20;
    let mut writer = Writer::create(&folder.join("sailings.arrow"), &schema)?;
    for from in (0..rows).step_by(BATCH) {
        let each = from..(from + BATCH).min(rows);
        let columns: Vec<ArrayRef> = vec![
            Arc::new(each.clone().map(|n| (n % 97 != 3).then_some(mixed(n) as i64)).collect::<Int64Array>()),
            Arc::new(
                each.clone().map(|n| Some(format!("marsh harrier {}", mixed(n) % 900_000))).collect::<StringArray>(),
            ),
            Arc::new(each.clone().map(|n| ports.get(mixed(n) as usize % 6).copied()).collect::<StringArray>()),
            Arc::new(each.clone().map(|n| Some(mixed(n) as f64 / 1e6)).collect::<Float64Array>()),
            Arc::new(each.clone().map(|n| Some(mixed(n) as i64 * 1000)).collect::<TimestampMicrosecondArray>()),
            Arc::new(each.clone().map(|n| Some(n as i64)).collect::<Int64Array>()),
            Arc::new(each.clone().map(|n| Some(format!("berth-{n:016}"))).collect::<StringArray>()),
            Arc::new(each.clone().map(|n| Some(n % 3 == 0)).collect::<BooleanArray>()),
            decimals(each.clone().map(|n| mixed(n) as i128 % 9_999_999), 10)?,
            decimals(each.map(|n| mixed(n) as i128 * 10_007), 24)?,
        ];
        writer.write(&RecordBatch::try_new(Arc::clone(&schema), columns)?)?;
    }
    let archive = Arc::clone(writer.archive());
    writer.finish()?;
    Ok(archive)
}
