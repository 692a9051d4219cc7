//! `jaunty-standins tds --data FILE [--port PORT] [--cert FILE --key FILE] [--require-tls]`: a stand-in in a terminal.

use std::path::PathBuf;
use std::process::ExitCode;

use jaunty_standins::tds::{Options, Server, Tls};

const USAGE: &str = "jaunty-standins tds --data FILE [--port PORT] [--cert FILE --key FILE] [--require-tls]";

fn main() -> ExitCode {
    match serve(std::env::args().skip(1)) {
        Ok(()) => ExitCode::SUCCESS,
        Err(problem) => {
            eprintln!("jaunty-standins: {problem}\n{USAGE}");
            ExitCode::FAILURE
        }
    }
}

fn serve(mut arguments: impl Iterator<Item = String>) -> Result<(), String> {
    if arguments.next().as_deref() != Some("tds") {
        return Err("which stand-in?".into());
    }
    let mut options = Options::default();
    let (mut cert, mut key) = (None, None);
    while let Some(argument) = arguments.next() {
        let mut value = || arguments.next().ok_or_else(|| format!("{argument} needs a value"));
        match argument.as_str() {
            "--data" => options.data = Some(PathBuf::from(value()?)),
            "--port" => options.port = value()?.parse().map_err(|_| "the port is a number".to_owned())?,
            "--cert" => cert = Some(PathBuf::from(value()?)),
            "--key" => key = Some(PathBuf::from(value()?)),
            "--require-tls" => options.requires_tls = true,
            other => return Err(format!("{other} is not known")),
        }
    }
    if let (Some(cert), Some(key)) = (cert, key) {
        options.tls = Some(Tls { cert, key });
    }
    let server = Server::start(options).map_err(|error| error.to_string())?;
    eprintln!(
        "SQL Server's stand-in listens on 127.0.0.1:{}; log in as clerk, password {}",
        server.port(),
        Options::default().password
    );
    loop {
        std::thread::park();
    }
}
