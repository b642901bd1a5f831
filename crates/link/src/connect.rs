//! From a machine of the book to a logged-in connection: the way there, through proxy and gateways, and the login at each of them.

use std::time::Instant;

use crate::dial::{Dial, dial};
use crate::line::Line;
use crate::login::{Login, Prepared, remember};
use crate::proxy::ProxyError;
use crate::rotation::RotationWatch;
use crate::step::Step;
use crate::{Ask, ConnectRequest, Link, LinkError, gateway};

/// Connects and logs in, through whatever is on the way.
///
/// # Errors
/// The step that failed.
pub async fn connect(request: &ConnectRequest, ask: &mut dyn Ask) -> Result<Link, LinkError> {
    // What can fail here, fails before the network is bothered.
    let prepared = Prepared::new(request, ask).await?;
    let (line, reached) = reach(request, ask).await?;
    log_in(prepared, line, reached, ask).await
}

async fn log_in(
    prepared: Prepared<'_>,
    line: Line,
    reached: String,
    ask: &mut dyn Ask,
) -> Result<Link, LinkError> {
    let request = prepared.request;
    let mut login = Login::start(prepared, line, reached, ask)?;
    login.run().await?;
    let Login { client, pump, .. } = login;
    if !request.only_looking {
        remember(request, &client, ask);
    }
    let (machine, user) = (request.machine.clone(), request.user.clone());
    let rotation = RotationWatch::new(&request.home, &machine, request.only_looking);
    Ok(Link { client, pump, machine, user, ended: None, rotation, listening: None })
}

/// A line to where the request leads: dialed, or through its gateways; and how that place is called.
///
/// # Errors
/// The step that failed.
pub(crate) async fn reach(request: &ConnectRequest, ask: &mut dyn Ask) -> Result<(Line, String), LinkError> {
    let Some(first) = request.via.first() else {
        ask.step(&Step::Machine(&request.machine));
        return open_line(request, ask).await;
    };
    let at = |gateway: &ConnectRequest| {
        let gateway = gateway.machine.clone();
        move |source| LinkError::Gateway { gateway, source: Box::new(source) }
    };
    ask.step(&Step::Gateway(&first.machine));
    let (mut line, mut reached) = open_line(first, ask).await.map_err(at(first))?;
    for (index, gateway) in request.via.iter().enumerate() {
        let prepared = Prepared::new(gateway, ask).await.map_err(at(gateway))?;
        let link = log_in(prepared, line, reached, ask).await.map_err(at(gateway))?;
        let next = request.via.get(index + 1);
        match next {
            Some(next) => ask.step(&Step::Gateway(&next.machine)),
            None => ask.step(&Step::Machine(&request.machine)),
        }
        let next = next.unwrap_or(request);
        let start = Instant::now();
        (line, reached) = gateway::through(link, &next.addresses, next.port).await?;
        ask.step(&Step::Reached { place: &reached, took: start.elapsed() });
    }
    Ok((line, reached))
}

/// A line to the first thing on the way.
async fn open_line(request: &ConnectRequest, ask: &mut dyn Ask) -> Result<(Line, String), LinkError> {
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
                Some(user) => ask.proxy_password(user, &proxy.place(), again),
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
