//! Scripts for Windows: one block of PowerShell, which is read whole before any of it is run.

use lantern_book::line_word;
use lantern_keys::SecretString;

use super::sources::without_overlaps;
use super::words::power_shell_word;
use super::{Deed, Script, Service};

const BEGIN: &str = include_str!("windows/begin.ps1");
const CHANGE: &str = include_str!("windows/change.ps1");
const NOTE: &str = include_str!("windows/note.ps1");
const SERVICE: &str = include_str!("windows/service.ps1");
const NETWORK: &str = include_str!("windows/network.ps1");
const WINRM: &str = include_str!("windows/winrm.ps1");
const PROFILE: &str = include_str!("windows/profile.ps1");
const MADE: &str = include_str!("windows/made.ps1");
const BUNDLE: &str = include_str!("windows/bundle.ps1");
const SSH: &str = include_str!("windows/ssh.ps1");
const LINE: &str = include_str!("windows/line.ps1");
const UNDO: &str = include_str!("windows/undo.ps1");

/// Characters of a bundle on one line: consoles of old take no longer ones than 8191.
const BUNDLE_LINE: usize = 120;

/// A certificate that was made elsewhere, with its key, as the script carries it: sealed by a passphrase that is asked for at the console.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bundle {
    /// PKCS#12, in base64.
    pub base64: String,
    /// The SHA-1 over the certificate in hexadecimal, by which Windows calls it.
    pub thumbprint: String,
}

/// What each kind of script is made of, and the steps that it takes.
fn parts(script: &Script) -> (Vec<&'static str>, Vec<&'static str>) {
    match (&script.deed, &script.service) {
        (Deed::Undo, _) => (vec![BEGIN, UNDO], vec!["Assert-Administrator", "Undo-All"]),
        (_, Service::Winrm { bundle, .. }) => {
            let (piece, get) = match bundle {
                Some(_) => (BUNDLE, "$certificate = Get-BroughtCertificate"),
                None => (MADE, "$certificate = Get-MadeCertificate"),
            };
            let pieces = vec![BEGIN, CHANGE, NOTE, SERVICE, NETWORK, PROFILE, piece, WINRM, LINE];
            let steps = vec![
                "Assert-Administrator",
                "$way = Get-WayBack",
                "Set-Profile $way.Interface",
                "Start-AtBoot WinRM",
                get,
                "Set-Listener $certificate",
                "Set-Firewall lantern-winrm 5986",
                "Write-Line $way.Address 5986 \"tls=$(Get-Hash $certificate.RawData)\"",
            ];
            (pieces, steps)
        }
        (_, Service::Ssh) => {
            let steps = vec![
                "Assert-Administrator",
                "$way = Get-WayBack",
                "Install-SshService",
                "Start-AtBoot sshd",
                "Set-Firewall lantern-ssh 22",
                "Add-Keys",
                "$prints = foreach ($file in Get-ChildItem -Path \"$env:ProgramData\\ssh\\ssh_host_*_key.pub\") {",
                "  Get-Hash ([Convert]::FromBase64String(((Get-Content -Path $file.FullName) -split ' ')[1]))",
                "}",
                "if (-not $prints) { throw 'the SSH service has no host keys' }",
                "Write-Line $way.Address 22 \"ssh=$($prints -join '+')\"",
            ];
            (vec![BEGIN, CHANGE, SERVICE, NETWORK, SSH, LINE], steps)
        }
    }
}

fn head(script: &Script, from: &str) -> String {
    let (name, day) = (&script.name, script.day);
    let what = match (&script.deed, &script.service) {
        (Deed::Undo, _) => format!("Takes back what was done to prepare {name} (Windows)."),
        (_, Service::Winrm { .. }) => format!(
            "Prepares {name} (Windows): WinRM runs, over TLS alone, and the firewall lets it be reached from\n# {from}, and not from everywhere."
        ),
        (_, Service::Ssh) => format!(
            "Prepares {name} (Windows): the SSH service runs, and the firewall lets it be reached from\n# {from}, and not from everywhere; a key lets in."
        ),
    };
    format!(
        "# {what}\n# Made by lantern on {day}. To be pasted into Windows PowerShell, as administrator, on the machine's own console.\n# Read it first: what it does stands in order at its end. Nothing runs before the last line; run twice, it changes nothing more.\n"
    )
}

/// The text.
pub(super) fn text(script: &Script) -> SecretString {
    let sources: Vec<String> = without_overlaps(&script.from).iter().map(ToString::to_string).collect();
    let undo = match script.service {
        Service::Ssh => format!("lantern machine prepare {} --system windows --over ssh --undo", script.name),
        Service::Winrm { .. } => format!("lantern machine prepare {} --system windows --undo", script.name),
    };
    let back = format!("{undo}   prints what takes it back");
    let list = |all: &[String]| {
        let words: Vec<String> = all.iter().map(|one| power_shell_word(one)).collect();
        format!("@({})", words.join(", "))
    };
    let word = |text: &str| power_shell_word(text);
    let mut values = vec![("Back", word(&back))];
    if !matches!(script.deed, Deed::Undo) {
        values.push(("Name", word(&script.name)));
        values.push(("Keys", list(&script.keys)));
        values.push(("From", list(&sources)));
        values.push(("Login", word(&script.user)));
        values.push(("LineName", word(&line_word(&script.name))));
        values.push(("LineUser", word(&line_word(&script.user))));
        values.push(("Secret", word(script.secret.expose_secret())));
        if let Service::Winrm { names, bundle } = &script.service {
            values.push(("Names", list(names)));
            if let Some(Bundle { base64, thumbprint }) = bundle {
                let lines: Vec<String> = base64
                    .as_bytes()
                    .chunks(BUNDLE_LINE)
                    .map(|line| format!("'{}'", String::from_utf8_lossy(line)))
                    .collect();
                values.push(("Thumbprint", word(thumbprint)));
                values.push(("Bundle", format!("-join @(\n    {}\n  )", lines.join(",\n    "))));
            }
        }
    }
    let (pieces, steps) = parts(script);
    let mut text = format!("& {{\n{}", head(script, &sources.join(", ")));
    for (name, value) in values {
        text.push_str(&format!("  ${name} = {value}\n"));
    }
    pieces.iter().for_each(|piece| text.push_str(piece));
    text.push_str("  try {\n");
    steps.iter().for_each(|step| text.push_str(&format!("    {step}\n")));
    text.push_str("  } catch {\n    Write-Host \"Stopped at: $($Now.Step)\"\n    Write-Host \"  $($_.Exception.Message)\"\n");
    text.push_str("    Write-Host '  Nothing after that was done. It can be pasted again;'\n    Write-Host \"  $Back\"\n  }\n}\n");
    SecretString::new(text)
}
