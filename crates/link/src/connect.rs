//! From a machine of the book to a logged-in connection: the way there, through proxy and gateways, and the login at each of them.

use std::time::Instant;

use lantern_ssh::SshError;
use tracing::debug;

use crate::dial::{Dial, dial};
use crate::gateway_steps::OfGateway;
use crate::line::Line;
use crate::login::Login;
use crate::prepared::{Prepared, remember};
use crate::rotation;
use crate::step::Step;
use crate::trunk::Destination;
use crate::{Ask, ConnectRequest, LinkError, ProxyError, Question, Trunk, gateway};

/// Connects and logs in, through whatever is on the way; or takes a connection that others use too, where the request says where there are such.
///
/// # Errors
/// The step that failed.
pub async fn connect(request: &ConnectRequest, ask: &dyn Ask) -> Result<Trunk, LinkError> {
    // Whoever looks wants to see each step of its own.
    if let Some(shares) = request.shares.as_ref().filter(|_| !request.only_looking)
        && let Some(found) = shares.find(request, ask).await
    {
        return found;
    }
    connect_alone(request, ask).await
}

/// The same with a connection of its own; gateways on the way may be shared.
///
/// # Errors
/// The step that failed.
pub async fn connect_alone(request: &ConnectRequest, ask: &dyn Ask) -> Result<Trunk, LinkError> {
    // What can fail here, fails before the network is bothered.
    let prepared = Prepared::new(request, ask).await?;
    let behind = pass_gateways(request, ask).await?;
    hop(prepared, behind.as_ref(), ask).await
}

/// Logs in over a line that is there already, instead of reaching the machine as the request says. `reached` is how the place is called.
///
/// # Errors
/// The step that failed.
pub async fn connect_over(
    request: &ConnectRequest,
    line: Line,
    reached: &str,
    ask: &dyn Ask,
) -> Result<Trunk, LinkError> {
    // There is no other line to try without.
    let prepared = Prepared::new(request, ask).await?.without_early();
    log_in(prepared, line, reached.to_owned(), ask).await
}

/// A line to where the request leads, without a login there: dialed, or through its gateways; and how that place is called.
///
/// # Errors
/// The step that failed.
pub(crate) async fn reach(request: &ConnectRequest, ask: &dyn Ask) -> Result<(Line, String), LinkError> {
    let behind = pass_gateways(request, ask).await?;
    open_line(request, behind.as_ref(), ask).await
}

/// Logs in to the gateways on the way; the last of them.
pub(crate) async fn pass_gateways(
    request: &ConnectRequest,
    ask: &dyn Ask,
) -> Result<Option<Trunk>, LinkError> {
    let mut behind = shared_gateway(request, ask).await.transpose()?;
    for gateway in request.via.iter().filter(|_| behind.is_none()).collect::<Vec<_>>() {
        ask.step(&Step::Gateway(&gateway.machine));
        let passed = async {
            let prepared = Prepared::new(gateway, ask).await?;
            hop(prepared, behind.as_ref(), ask).await
        };
        behind = Some(passed.await.map_err(|source| at_gateway(&gateway.machine, source))?);
    }
    ask.step(&Step::Machine(&request.machine));
    Ok(behind)
}

/// The last gateway on the way, where it is shared.
async fn shared_gateway(request: &ConnectRequest, ask: &dyn Ask) -> Option<Result<Trunk, LinkError>> {
    let (shares, (last, before)) = (request.shares.as_ref()?, request.via.split_last()?);
    let gateway = ConnectRequest { via: before.to_vec(), shares: request.shares.clone(), ..last.clone() };
    ask.step(&Step::Gateway(&last.machine));
    let of_gateway = OfGateway::new(ask);
    let found = shares.find(&gateway, &of_gateway).await?;
    if found.is_ok() && !of_gateway.has_steps() {
        ask.step(&Step::Shared);
    }
    Some(found.map_err(|source| at_gateway(&last.machine, source)))
}

fn at_gateway(gateway: &str, source: LinkError) -> LinkError {
    match source {
        // Told by the gateway before this one, or about it.
        told @ (LinkError::GatewayRefused { .. } | LinkError::Gateway { .. }) => told,
        source => LinkError::Gateway { gateway: gateway.to_owned(), source: Box::new(source) },
    }
}

/// One connection with its login. A guess that would have changed what is chosen costs a second try without it, and so does a session that a server does
/// not open with the login.
async fn hop(prepared: Prepared<'_>, behind: Option<&Trunk>, ask: &dyn Ask) -> Result<Trunk, LinkError> {
    let request = prepared.request;
    let (mut guesses, mut early) = (prepared.guesses, prepared.early.is_some());
    let mut next = Some(prepared);
    loop {
        let mut prepared = match next.take() {
            Some(prepared) => prepared,
            None => Prepared::new(request, ask).await?,
        };
        if !guesses {
            prepared = prepared.without_guess();
        }
        if !early {
            prepared = prepared.without_early();
        }
        let (line, reached) = open_line(request, behind, ask).await?;
        match log_in(prepared, line, reached, ask).await {
            Err(LinkError::Handshake { source: SshError::GuessOutdated, .. }) if guesses => {
                debug!(machine = request.machine, "the guess is out of date");
                guesses = false;
            }
            Err(LinkError::Handshake { source: SshError::EarlyUnwelcome, .. }) if early => early = false,
            outcome => return outcome,
        }
    }
}

async fn log_in(
    prepared: Prepared<'_>,
    line: Line,
    reached: String,
    ask: &dyn Ask,
) -> Result<Trunk, LinkError> {
    let request = prepared.request;
    let mut login = Login::start(prepared, line, reached, ask)?;
    login.run().await?;
    let took = login.key_that_was_taken();
    let Login { client, pump, .. } = login;
    if !request.only_looking {
        remember(request, &client, took, ask);
    }
    let to = Destination {
        machine: request.machine.clone(),
        user: request.user.clone(),
        answer_time: request.limits.login,
    };
    let trunk = Trunk::start(client, pump, to, request.opens.clone());
    if !request.only_looking {
        rotation::watch(&request.home, &trunk);
    }
    Ok(trunk)
}

/// A line to one machine: from the gateway before it, or dialed.
pub(crate) async fn open_line(
    request: &ConnectRequest,
    behind: Option<&Trunk>,
    ask: &dyn Ask,
) -> Result<(Line, String), LinkError> {
    let start = Instant::now();
    if let Some(gateway) = behind {
        let (line, reached) = gateway::through(gateway, &request.addresses, request.port).await?;
        ask.step(&Step::Reached { place: &reached, took: start.elapsed() });
        return Ok((line, reached));
    }
    if let Some(lines) = &request.lines {
        let reached = request.place();
        let host = request.addresses.first().map_or("", String::as_str);
        let opened = lines.open(host, request.port);
        let line = opened.map_err(|source| LinkError::Dial { place: reached.clone(), source })?;
        ask.step(&Step::Reached { place: &reached, took: start.elapsed() });
        return Ok((line, reached));
    }
    let limit = request.limits.connect;
    let Some(proxy) = &request.proxy else {
        let what = Dial { addresses: &request.addresses, port: request.port, race: request.race, limit };
        let (stream, reached) = dial(what, ask).await?;
        return Ok((Box::new(stream), reached.to_string()));
    };
    let mut failed = None;
    let mut again = false;
    for host in &request.addresses {
        loop {
            let password = match &proxy.user {
                Some(user) => {
                    let (user, proxy) = (user.clone(), proxy.place());
                    ask.ask(Question::ProxyPassword { user, proxy, again }).await.secret()
                }
                None => None,
            };
            let addresses = [proxy.address.clone()];
            let what = Dial { addresses: &addresses, port: proxy.port, race: request.race, limit };
            let (mut stream, _) =
                dial(what, ask).await.map_err(|error| error.at_proxy(proxy, host, request.port))?;
            let start = Instant::now();
            match crate::proxy::pass(&mut stream, proxy, password, (host, request.port), limit).await {
                Ok(()) => {
                    let reached =
                        format!("{} through {}", lantern_book::place(host, request.port), proxy.place());
                    ask.step(&Step::Reached { place: &reached, took: start.elapsed() });
                    return Ok((Box::new(stream), reached));
                }
                Err(LinkError::Proxy { source: ProxyError::LoginRefused, .. }) if !again => again = true,
                Err(error) => {
                    failed = Some(error);
                    break;
                }
            }
        }
    }
    Err(failed.unwrap_or_else(|| LinkError::NameNotFound {
        address: String::new(),
        source: std::io::ErrorKind::NotFound.into(),
    }))
}
