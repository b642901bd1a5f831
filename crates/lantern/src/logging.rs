//! The log: steps of the protocol, to standard error or a file. Secrets are types that cannot be logged.

use std::fs::File;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::sync::Mutex;

use tracing::field::{Field, Visit};
use tracing::level_filters::LevelFilter;
use tracing::{Event, Subscriber};
use tracing_subscriber::Layer;
use tracing_subscriber::fmt::format::Writer;
use tracing_subscriber::fmt::{FmtContext, FormatEvent, FormatFields};
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::registry::LookupSpan;
use tracing_subscriber::util::SubscriberInitExt;

use crate::cli::global::Global;
use crate::screen::failure::{Failure, code};
use crate::screen::fit::Fit;
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
            .event_format(InWords)
            .with_writer(|| OneLine(std::io::stderr()))
            .with_ansi(false)
            .with_filter(level)
    });
    let file = match &global.log {
        None => None,
        Some(path) => {
            let file = File::options().append(true).create(true).mode(0o600).open(path).map_err(|error| {
                Failure::new(code::LOCAL, format!("cannot open the log {}: {error}", path.display()))
            })?;
            let layer =
                tracing_subscriber::fmt::layer().with_writer(Mutex::new(OneLine(file))).with_ansi(false);
            Some(layer.with_filter(LevelFilter::TRACE))
        }
    };
    if screen.is_some() || file.is_some() {
        tracing_subscriber::registry().with(screen).with(file).init();
    }
    Ok(())
}

/// An event as a person reads it: what happened, and what is known of it. Where it happened in the program is for the log.
struct InWords;

impl<S, N> FormatEvent<S, N> for InWords
where
    S: Subscriber + for<'a> LookupSpan<'a>,
    N: for<'a> FormatFields<'a> + 'static,
{
    fn format_event(
        &self,
        _context: &FmtContext<'_, S, N>,
        mut writer: Writer<'_>,
        event: &Event<'_>,
    ) -> std::fmt::Result {
        let mut words = Words::default();
        event.record(&mut words);
        let known = words.known.join(", ");
        match known.is_empty() {
            true => writeln!(writer, "- {}", words.message),
            false => writeln!(writer, "- {}: {known}", words.message),
        }
    }
}

/// What an event says.
#[derive(Default)]
struct Words {
    message: String,
    known: Vec<String>,
}

impl Words {
    fn put(&mut self, field: &Field, value: String) {
        match field.name() {
            "message" => self.message = value,
            name => self.known.push(format!("{} {value}", name.replace('_', " "))),
        }
    }
}

impl Visit for Words {
    fn record_str(&mut self, field: &Field, value: &str) {
        self.put(field, value.to_owned());
    }

    fn record_bool(&mut self, field: &Field, value: bool) {
        self.put(field, if value { "yes" } else { "no" }.to_owned());
    }

    fn record_debug(&mut self, field: &Field, value: &dyn std::fmt::Debug) {
        self.put(field, format!("{value:?}"));
    }
}

/// Writes each event on one line, fit to be printed: it may hold what a machine said.
struct OneLine<W>(W);

impl<W: Write> Write for OneLine<W> {
    /// An event comes whole.
    fn write(&mut self, event: &[u8]) -> std::io::Result<usize> {
        let text = String::from_utf8_lossy(event);
        self.0.write_all(format!("{}\n", Fit::line(text.trim_end_matches('\n'))).as_bytes())?;
        Ok(event.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.0.flush()
    }
}
