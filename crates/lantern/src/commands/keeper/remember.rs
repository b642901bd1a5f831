//! `lantern keeper remember`: a password is typed once, proven, and held.

use lantern_book::{Home, Protocol};
use lantern_keys::SecretString;
use lantern_link::{Ask, Question, Remote};
use lantern_operations::{ReachOptions, Target};
use serde_json::json;

use super::{not_running, start_by_the_way, state};
use crate::cli::connect::ConnectArgs;
use crate::cli::keeper::RememberArgs;
use crate::commands::block_on;
use crate::commands::connecting::{attend, explain, way};
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;

pub(super) fn run(home: &Home, args: &RememberArgs, json: bool) -> Result<(), Failure> {
    let mut options = ReachOptions { user: args.user.clone(), ..ConnectArgs::default().reach(home) };
    // It is the password that is to be proven.
    options.kerberos.ignores_tickets = true;
    let target = Target::resolve_with(home, &args.machine, &options)?;
    let user = target.user(&options)?;
    if state(home)?.is_none() {
        start_by_the_way(home)?;
    }
    if state(home)?.ok_or_else(not_running)?.locked {
        return Err(Failure::new(code::LOCAL, "the keeper is locked").hint("lantern keeper unlock"));
    }
    let given = args.password_from.as_ref().map(|source| source.read()).transpose()?;
    let machine = target.name.clone();
    block_on(async {
        let password = match given {
            Some(password) => password,
            None => ask(&machine, &user).await?,
        };
        let proven = prove(home, &target, &options, password.clone()).await?;
        lantern_keeper::remember(home, &machine, &user, &password, args.lifetime).await?;
        if json {
            return output::print_json(
                &json!({ "machine": machine, "user": user, "seconds_left": args.lifetime, "proven": proven }),
            );
        }
        let time =
            args.lifetime.map_or(String::new(), |seconds| format!(" for {}", super::in_words(seconds)));
        let proof = if proven { ", after it let us in with that" } else { "" };
        output::say(format!("The keeper holds the password of {user} for {machine}{time}{proof}."));
        Ok(())
    })
}

/// Asks a person.
async fn ask(machine: &str, user: &str) -> Result<SecretString, Failure> {
    let asking = TerminalAsk::new(true, None, None);
    let question = Question::Password { user: user.to_owned(), machine: machine.to_owned(), again: false };
    match asking.ask(question).await.secret().filter(|password| !password.is_empty()) {
        Some(password) => Ok(password),
        None if asking.was_interrupted() => Err(Failure::new(code::INTERRUPTED, "interrupted")),
        None => Err(Failure::new(code::LOCAL, "no password was given")
            .hint("`--password-from SOURCE` reads it: fd:N, file:PATH or command:LINE")),
    }
}

/// Logs in with it where a password is all that it takes, so that a wrong one is never held; whether that was done.
async fn prove(
    home: &Home,
    target: &Target,
    options: &ReachOptions,
    password: SecretString,
) -> Result<bool, Failure> {
    if target.protocol != Protocol::Winrm {
        return Ok(false);
    }
    let asking = TerminalAsk::new(true, Some(password), None);
    let logging_in = async {
        let remote: Remote = way(home, target, options, &asking).reach().await?;
        remote.identify(&asking).await?;
        remote.close().await;
        Ok(())
    };
    attend(target, &asking, logging_in).await?.map_err(|error| explain(home, target, error))?;
    Ok(true)
}
