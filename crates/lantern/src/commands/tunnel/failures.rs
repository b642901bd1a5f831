//! Why tunnels are not opened, and what to type next.

use lantern_book::{BookError, Tunnel, TunnelEnd, TunnelKind};
use lantern_link::ListenError;
use lantern_operations::tunnel::{OpenFailure, PlanError, TunnelPlan, next_free_port, port_holder};

use crate::cli::tunnel::open::FormArgs;
use crate::screen::failure::{Failure, chain, code};

/// What cannot be opened as it stands; `machine` as it was typed.
pub(super) fn of_plan(error: &PlanError, machine: &str) -> Failure {
    let failure = Failure::new(code::USAGE, error.to_string());
    match error {
        PlanError::Unknown { known, name, .. } => {
            let nearest = BookError::nearest(name, known.iter().map(String::as_str));
            let failure = match known.is_empty() {
                true => failure,
                false => failure.detail(format!("it has {}", known.join(", "))),
            };
            let failure = match nearest {
                Some(nearest) => failure.hint(format!("did you mean {nearest}?")),
                None => failure,
            };
            failure.hint(format!("lantern tunnel add {machine} {name} --local PORT --to HOST:PORT"))
        }
        PlanError::None { .. } => {
            failure.hint(format!("lantern tunnel open {machine} --local PORT --to HOST:PORT")).hint(format!(
                "or keep one in the book: lantern tunnel add {machine} NAME --local PORT --to HOST:PORT"
            ))
        }
        PlanError::Wide { name, .. } => failure
            .detail("whoever can reach that address could use it")
            .hint("`--wide` opens it all the same, this once")
            .hint(format!("always: lantern tunnel set {machine} {name} --wide"))
            .hint("a port alone listens on loopback"),
        PlanError::Form { name, .. } => {
            failure.hint(format!("lantern tunnel set {machine} {name} --local PORT --to HOST:PORT"))
        }
    }
}

/// A tunnel whose port or socket cannot be had.
pub(crate) fn of_opening(failed: &OpenFailure, plans: &[TunnelPlan], machine: &str) -> Failure {
    let mut failure = Failure::new(code::LOCAL, chain(failed));
    match &failed.source {
        ListenError::InUse { at } => {
            if let Some(holder) = port_holder(at) {
                failure.headline = format!("{}, by {holder}", failure.headline);
                if holder.name == env!("CARGO_PKG_NAME") {
                    failure = failure.hint("it may be open already: lantern tunnel list --open");
                }
            }
            let plan = plans.iter().find(|plan| plan.name == failed.name);
            match (next_free_port(at), plan) {
                (Some(port), Some(plan)) => {
                    failure.hint(format!("port {port} is free: {}", with_port(machine, plan, port)))
                }
                _ => failure.hint("`lantern tunnel list` shows the tunnels that are open"),
            }
        }
        ListenError::NotOurs { .. } => failure.hint("another path, or take that file away yourself"),
        ListenError::Io { at: TunnelEnd::Tcp { port: 1..1024, .. }, source }
            if source.kind() == std::io::ErrorKind::PermissionDenied =>
        {
            failure.hint("ports below 1024 are the system's: take a higher one")
        }
        ListenError::Io { .. } => {
            failure.hint("an address of this computer is wanted, or a folder that is there")
        }
    }
}

/// The command that opens the same at another port.
fn with_port(machine: &str, plan: &TunnelPlan, port: u16) -> String {
    let mut tunnel = plan.tunnel.clone();
    if let TunnelEnd::Tcp { port: old, .. } = &mut tunnel.listen {
        *old = port;
    }
    let to = tunnel.to.as_ref().map(|to| format!(" --to {to}")).unwrap_or_default();
    let wide = if tunnel.listen.is_loopback() { "" } else { " --wide" };
    format!("lantern tunnel open {machine} --{} {}{to}{wide}", tunnel.kind.word(), tunnel.listen)
}

/// The tunnel that options say; none when they say none.
///
/// # Errors
/// Ends that are none, or too few of them.
pub(super) fn typed_form(args: &FormArgs) -> Result<Option<Tunnel>, Failure> {
    let typed = [
        (TunnelKind::Local, &args.local),
        (TunnelKind::Remote, &args.remote),
        (TunnelKind::Dynamic, &args.dynamic),
    ];
    let Some((kind, listen)) = typed.into_iter().find_map(|(kind, listen)| Some((kind, listen.as_ref()?)))
    else {
        return match &args.to {
            Some(_) => Err(Failure::new(code::USAGE, "--to wants --local or --remote beside it")
                .hint("--local PORT --to HOST:PORT")),
            None => Ok(None),
        };
    };
    let listen = typed_end(&format!("--{}", kind.word()), listen, true)?;
    let to = args.to.as_ref().map(|to| typed_end("--to", to, false)).transpose()?;
    if to.is_none() && kind != TunnelKind::Dynamic {
        return Err(Failure::new(code::USAGE, format!("--{} wants --to beside it", kind.word()))
            .hint(format!("--{} {} --to HOST:PORT", kind.word(), listen)));
    }
    Ok(Some(Tunnel::new(kind, listen, to)))
}

/// One end as it was typed; a socket's path may be one from the current folder.
///
/// # Errors
/// What is none.
pub(super) fn typed_end(option: &str, text: &str, is_listening: bool) -> Result<TunnelEnd, Failure> {
    let absolute = text.strip_prefix("unix:").map(std::path::absolute).and_then(Result::ok);
    let text = absolute.map_or_else(|| text.to_owned(), |path| format!("unix:{}", path.display()));
    let forms = if is_listening { "8443, 127.0.0.1:8443 or unix:PATH" } else { "127.0.0.1:443 or unix:PATH" };
    Tunnel::parse_end(&text, is_listening).map_err(|rule| {
        Failure::new(code::USAGE, format!("{option} {text} {rule}")).hint(format!("such as {forms}"))
    })
}
