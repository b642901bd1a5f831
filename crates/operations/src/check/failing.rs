//! The step at which a way ended, by its error.

use lantern_link::{LinkError, WinrmFailure};
use lantern_ssh::SshError;

use super::account::{Line, Mark, Stage};
use super::findings::{CheckError, Finding};
use super::story::Story;
use crate::source_address::source_address;

/// Writes down that the way ended with this.
pub(super) fn failed_on_the_way(story: &mut Story, error: LinkError) {
    let error = match error {
        LinkError::Gateway { source, .. } => *source,
        other => other,
    };
    let stage = stage_of(&error, story.met());
    if let LinkError::Auth(auth) = &error {
        for report in &auth.report {
            let (what, outcome) = (report.what.clone(), report.outcome.to_owned());
            let line = Line::new(Stage::Login, Mark::Note, format!("{what}: {outcome}"));
            story.put(line.with(Finding::NotEnough { what, outcome }));
        }
    }
    if let LinkError::DialTimedOut { place, .. } = &error {
        story.account.source = source_address(place);
    }
    story.fail(stage, CheckError::Way(error));
}

/// The step that an error is about; `met` is the last one that was seen to work.
fn stage_of(error: &LinkError, met: Stage) -> Stage {
    match error {
        LinkError::Book(_) | LinkError::Exposed { .. } => Stage::Book,
        LinkError::NameNotFound { .. } => Stage::Name,
        LinkError::NoRoute { .. }
        | LinkError::Refused { .. }
        | LinkError::DialTimedOut { .. }
        | LinkError::Proxy { .. }
        | LinkError::GatewayRefused { .. } => Stage::Port,
        LinkError::Handshake { source: SshError::NothingInCommon(_), .. } => Stage::Algorithms,
        LinkError::Handshake {
            source: SshError::HostKey(_) | SshError::HostKeySignature(_) | SshError::HostKeyChanged { .. },
            ..
        } => Stage::HostKey,
        LinkError::Trust(failure) => match failure.is_about_certificate() {
            true => Stage::Certificate,
            false => Stage::HostKey,
        },
        LinkError::Handshake { source: SshError::NotSsh { .. } | SshError::Busy { .. }, .. } => {
            Stage::Identification
        }
        LinkError::Auth(_) => Stage::Login,
        LinkError::Winrm(failure) => stage_of_winrm(failure, met),
        LinkError::ListenRefused { .. } => Stage::Forwarding,
        // What the machine was asked next it did not answer.
        LinkError::Unanswered { .. } => match met {
            Stage::Session => Stage::Shell,
            Stage::Shell | Stage::Clock => Stage::Files,
            later if later > Stage::Clock => Stage::Forwarding,
            _ => Stage::Session,
        },
        LinkError::ChannelRefused { .. } => Stage::Session,
        LinkError::RequestRefused { .. } | LinkError::Privilege(_) => Stage::Shell,
        // It broke off: at the step behind the last one that worked.
        LinkError::Handshake { .. }
        | LinkError::Dial { .. }
        | LinkError::Lost { .. }
        | LinkError::Elsewhere(_) => met.following(),
        LinkError::Gateway { source, .. } => stage_of(source, met),
    }
}

/// The step that a failure is about; `met` is the last one that was seen to work.
fn stage_of_winrm(failure: &WinrmFailure, met: Stage) -> Stage {
    match failure {
        WinrmFailure::NotTls { .. }
        | WinrmFailure::WantsTls { .. }
        | WinrmFailure::NoCertificate { .. }
        | WinrmFailure::TlsNothingInCommon { .. }
        | WinrmFailure::Tls { .. }
        | WinrmFailure::NotAskedForCertificate { .. }
        | WinrmFailure::ClientCertificate { .. } => Stage::Tls,
        WinrmFailure::OwnCertificate { .. } => Stage::Book,
        WinrmFailure::NotHttp { .. }
        | WinrmFailure::Redirect { .. }
        | WinrmFailure::NotWsman { .. }
        | WinrmFailure::Status { .. } => Stage::Identification,
        WinrmFailure::NoLogin { .. } => Stage::Methods,
        WinrmFailure::Refused(_)
        | WinrmFailure::NoPassword { .. }
        | WinrmFailure::Ntlm { .. }
        | WinrmFailure::Kerberos { .. } => Stage::Login,
        WinrmFailure::Answer { .. }
        | WinrmFailure::TooLong { .. }
        | WinrmFailure::Unsealed { .. }
        | WinrmFailure::WantsClear { .. }
            if met < Stage::Login =>
        {
            Stage::Login
        }
        WinrmFailure::Lost { .. } | WinrmFailure::Unanswered { .. } => match met {
            Stage::Login | Stage::Identification => Stage::Shell,
            met => met.following(),
        },
        _ => Stage::Shell,
    }
}
