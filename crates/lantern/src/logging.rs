//! The log: steps of the protocol, to standard error or a file. Secrets are types that cannot be logged.

use std::fs::File;
use std::os::unix::fs::OpenOptionsExt;
use std::sync::Mutex;

use tracing::level_filters::LevelFilter;
use tracing_subscriber::Layer;
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::util::SubscriberInitExt;

use crate::cli::global::Global;
use crate::screen::failure::{Failure, code};
use crate::screen::output;

/// Starts logging as the options say.
///
/// # Errors
/// When the log file cannot be opened.
pub(crate) fn start(global: &Global) -> Result<(), Failure> {
    if global.quiet {
        output::be_quiet();
    }
    let level = match global.verbose {
        0 => None,
        1 => Some(LevelFilter::DEBUG),
        _ => Some(LevelFilter::TRACE),
    };
    let screen = level.map(|level| {
        tracing_subscriber::fmt::layer()
            .with_writer(std::io::stderr)
            .with_ansi(output::colorful_stderr())
            .without_time()
            .with_filter(level)
    });
    let file = match &global.log {
        None => None,
        Some(path) => {
            let file = File::options().append(true).create(true).mode(0o600).open(path).map_err(|error| {
                Failure::new(code::LOCAL, format!("cannot open the log {}: {error}", path.display()))
            })?;
            let layer = tracing_subscriber::fmt::layer().with_writer(Mutex::new(file)).with_ansi(false);
            Some(layer.with_filter(LevelFilter::TRACE))
        }
    };
    if screen.is_some() || file.is_some() {
        tracing_subscriber::registry().with(screen).with(file).init();
    }
    Ok(())
}
