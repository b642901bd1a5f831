//! Scripts for systems with a POSIX shell.

use lantern_book::line_word;
use lantern_keys::SecretString;

use super::sources::without_overlaps;
use super::words::posix_word;
use super::{Deed, Script};

/// Ends the text that the shell is given.
const END: &str = "END-OF-SCRIPT";
const BEGIN: &str = include_str!("unix/begin.sh");
const SERVICE_NAME: &str = include_str!("unix/service-name.sh");
const SERVICE: &str = include_str!("unix/service.sh");
const LOGIN: &str = include_str!("unix/login.sh");
const FIREWALL: &str = include_str!("unix/firewall.sh");
const ADDRESS: &str = include_str!("unix/address.sh");
const ADDRESS_BACK: &str = include_str!("unix/address-back.sh");
const LINE: &str = include_str!("unix/line.sh");
const PASSWORDS: &str = include_str!("unix/passwords.sh");
const UNDO: &str = include_str!("unix/undo.sh");
/// How long a new address is tried, in seconds: long enough to log in from elsewhere, short enough to wait for at a console.
const TRIED_FOR: u32 = 120;

/// What each kind of script is made of, and the steps that it takes.
fn parts(script: &Script) -> (Vec<&'static str>, Vec<&'static str>) {
    match &script.deed {
        Deed::Prepare { address } => {
            let mut pieces = vec![BEGIN, SERVICE_NAME, SERVICE, FIREWALL, LOGIN];
            let mut steps = vec!["begin", "ssh_service", "firewall", "login"];
            if address.is_some() {
                pieces.extend([ADDRESS_BACK, ADDRESS]);
                steps.push("fixed_address");
            }
            pieces.push(LINE);
            steps.extend(["line_back", "trap - EXIT"]);
            (pieces, steps)
        }
        Deed::PasswordsOff { .. } => {
            (vec![BEGIN, SERVICE_NAME, LOGIN, PASSWORDS], vec!["begin", "passwords_off"])
        }
        Deed::Undo => {
            (vec![BEGIN, SERVICE_NAME, LOGIN, ADDRESS_BACK, PASSWORDS, UNDO], vec!["begin", "undo"])
        }
    }
}

/// What the script is for, for whoever reads it before it is run.
fn head(script: &Script, from: &str) -> String {
    let (name, user, day, system) = (&script.name, posix_word(&script.user), script.day, script.system);
    let what = match &script.deed {
        Deed::Prepare { address } => {
            let address = address
                .as_ref()
                .map(|fixed| format!("\n# It keeps the address {} from then on.", fixed.address))
                .unwrap_or_default();
            format!(
                "Prepares {name} ({system}): the SSH service runs, the firewall lets it be reached from\n# {from}, and not from everywhere, and {user} logs in there by key.{address}"
            )
        }
        Deed::PasswordsOff { .. } => {
            format!("Switches passwords off on {name} ({system}), after a login by key as {user}.")
        }
        Deed::Undo => format!("Takes back what was done to prepare {name} ({system})."),
    };
    format!(
        "# {what}\n# Made by lantern on {day}. To be pasted on the machine's own console, as root. Read it first: what it does\n# stands in order at its end. Nothing runs before the last line; run twice, it changes nothing more.\n"
    )
}

/// The text.
pub(super) fn text(script: &Script) -> SecretString {
    let from = without_overlaps(&script.from).iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
    let undo = format!("lantern machine prepare {} --system {} --undo", script.name, script.system);
    let back = format!("`{undo}` prints what takes it back");
    let mut values: Vec<(&str, String)> = vec![
        ("NAME", script.name.clone()),
        ("SYSTEM", script.system.to_string()),
        ("LOGIN", script.user.clone()),
        ("FROM", from.clone()),
        ("BACK", back),
    ];
    match &script.deed {
        Deed::Prepare { address } => {
            values.push(("KEYS", script.keys.join("\n")));
            values.push(("LINE_NAME", line_word(&script.name)));
            values.push(("LINE_USER", line_word(&script.user)));
            values.push(("SECRET", script.secret.expose_secret().to_owned()));
            if let Some(fixed) = address {
                values.push(("ADDRESS", format!("{}/{}", fixed.address, fixed.length)));
                values.push(("ROUTER", fixed.router.map(|router| router.to_string()).unwrap_or_default()));
                let resolvers: Vec<String> = fixed.resolvers.iter().map(ToString::to_string).collect();
                values.push(("RESOLVERS", resolvers.join(" ")));
                values.push(("TRIED_FOR", TRIED_FOR.to_string()));
            }
        }
        Deed::PasswordsOff { proof } => values.push(("PROOF", proof.clone())),
        Deed::Undo => {}
    }
    let (pieces, steps) = parts(script);
    let mut text = format!("sh -s <<'{END}'\n{}set -eu\n", head(script, &from));
    for (name, value) in values {
        text.push_str(&format!("{name}={}\n", posix_word(&value)));
    }
    pieces.iter().for_each(|piece| text.push_str(piece));
    text.push_str("in_order() {\n");
    steps.iter().for_each(|step| text.push_str(&format!("  {step}\n")));
    text.push_str(&format!("}}\nin_order </dev/null\n{END}\n"));
    SecretString::new(text)
}
