//! The screen on the scripted engine, for tests: what no server here does yet can be seen on it.

#![allow(clippy::expect_used)] // Only tests run it.

use jaunty_conformance::scripted::Scripted;
use jaunty_core::connection::Connections;
use jaunty_core::files::Folders;
use jaunty_core::run::Keeping;
use jaunty_core::settings;
use jaunty_seam::engine::Engine;
use jaunty_seam::profile::{Profile, Setting};
use jaunty_tui::app::Options;
use jaunty_tui::appearance;
use jaunty_tui::theme::Depth;

static ENGINES: &[&dyn Engine] = &[&Scripted];

fn main() {
    let folders = Folders::of_user().expect("a home");
    let mut settings = settings::load(&folders.settings());
    let mut profile = Profile::new("harbour", "scripted");
    profile.settings.insert("code".into(), Setting::Flag(true));
    let options = Options {
        keeping: Keeping::open(&folders, settings.retention),
        engines: ENGINES,
        connections: Connections { profiles: vec![profile.clone()], ..Connections::default() },
        profile: Some(profile),
        buffer: std::env::args_os().nth(1).expect("a buffer").into(),
        rows: None,
        appearance: appearance::understood(&mut settings),
        settings,
        depth: Depth::of_environment(|name| std::env::var(name).ok()),
        guest: false,
        outside: None,
        folders,
    };
    jaunty_tui::run(options).expect("a terminal");
}
