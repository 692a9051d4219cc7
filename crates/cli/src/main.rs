//! `jaunty`: the program that people start.
//!
//! [`args`] declares the command line, [`open`] the full screen, [`headless`] everything that needs
//! none, [`demo`] the demonstration. All work is done by the library crates.

mod args;
mod ask;
mod demo;
mod failure;
mod headless;
mod log;
mod open;
mod screen;

use std::process::ExitCode;

use args::{Args, Command};
use clap::Parser;
use failure::Failure;

fn main() -> ExitCode {
    match run(Args::parse()) {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => failure.report(),
    }
}

fn run(args: Args) -> Result<(), Failure> {
    match args.command {
        Some(Command::Run(run)) => headless::run::run(run),
        Some(Command::Load(load)) => headless::load::run(&load),
        Some(Command::Dump(dump)) => headless::dump::run(&dump),
        Some(Command::Compare(compare)) => headless::compare::run(&compare),
        Some(Command::Plan(plan)) => headless::drawings::plan(&plan),
        Some(Command::Schema(schema)) => headless::drawings::schema(&schema),
        Some(Command::Log(log)) => headless::log::list(&log),
        Some(Command::Rows(rows)) => headless::rows::write(&rows),
        Some(Command::Buffers(buffers)) => headless::buffers::list(&buffers),
        Some(Command::Statements(statements)) => headless::statements::list(&statements),
        Some(Command::Connections(connections)) => headless::connections::act(&connections),
        Some(Command::Lsp { .. }) => headless::lsp::serve(),
        Some(Command::Serve { describe, markdown }) => headless::serve::serve(describe, markdown),
        Some(Command::Call { method, params }) => headless::serve::call(&method, params.as_deref()),
        Some(Command::Send { place, connection }) => headless::serve::send(&place, connection),
        Some(Command::Keys { json: true, .. }) => headless::print(&format!("{}\n", screen::actions())),
        Some(Command::Keys { markdown, words, .. }) => headless::keys::list(markdown, &words),
        Some(Command::Completions { shell }) => headless::shell::completions(&shell),
        Some(Command::Man { folder }) => headless::shell::man(folder.as_deref()),
        Some(Command::Demo(demo)) => demo::run(&demo),
        None => open::open(&args.open),
    }
}
