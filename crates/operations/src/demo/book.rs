//! What the demo's book says of its machines.

use lantern_book::{BookError, Field, FieldValue, Home, MachineBook, Settings};

use super::{DemoMachine, KEY};

/// The machine that one goes through to reach those of the pier.
const GATE: &str = "harbour-gate";

/// Adds the machines to the book of a throw-away home.
///
/// # Errors
/// The book.
pub fn enter_into_book(home: &Home, machines: &[DemoMachine]) -> Result<(), BookError> {
    for machine in machines {
        MachineBook::add(home, &machine.name, &settings(machine)?)?;
    }
    Ok(())
}

fn settings(machine: &DemoMachine) -> Result<Settings, BookError> {
    let name = machine.name.as_str();
    let note = match name {
        "foghorn" => Some("wants the key, then the password: low visibility".to_owned()),
        "chart-room" => Some("Windows, over WinRM; the password: high water".to_owned()),
        "tide-gauge" => Some("asks for the password: spring tide; and the code: 2718".to_owned()),
        _ => None,
    };
    let tag = match name {
        "chart-room" | "signal-hut" | GATE => "house",
        _ if machine.inner_address.is_some() => "pier",
        _ => "coast",
    };
    let mut settings = match &machine.inner_address {
        Some(inner) => Settings::at(inner)?.with_text(Field::Gateway, GATE)?,
        None => Settings::at(&machine.address.ip().to_string())?
            .with(Field::Port, FieldValue::Number(machine.address.port().into()))?,
    };
    settings = settings.with_text(Field::User, "keeper")?.with_text(Field::Tags, tag)?;
    if machine.is_windows {
        settings = settings.with_text(Field::Protocol, "winrm")?.with_text(Field::CertificateName, name)?;
    } else if name != "tide-gauge" {
        settings = settings.with_text(Field::Key, KEY)?;
    }
    let tunnels: &[(&str, &str)] = match name {
        "signal-hut" => &[("console", "local 8443 to 127.0.0.1:443"), ("mail", "local 2525 to 127.0.0.1:25")],
        "lamp-01" => &[("page", "local 8080 to 127.0.0.1:80"), ("socks", "dynamic 1080")],
        _ => &[],
    };
    if !tunnels.is_empty() {
        let own = |(name, form): &(&str, &str)| ((*name).to_owned(), (*form).to_owned());
        settings = settings.with(Field::Tunnels, FieldValue::Map(tunnels.iter().map(own).collect()))?;
    }
    match note {
        Some(note) => settings.with(Field::Note, FieldValue::Text(note)),
        None => Ok(settings),
    }
}
