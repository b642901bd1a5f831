//! `lantern machine add`

use lantern_book::{
    Change, Destination, Field, FieldValue, Home, KeyRing, MachineBook, Pasted, Protocol, Settings,
    UnprovenLine, check_name_of, image,
};

use lantern_operations::{FoundKey, Target};

use super::{check_names, machine_json};
use crate::cli::connect::ConnectArgs;
use crate::cli::machine::add::AddArgs;
use crate::cli::settings;
use crate::commands::block_on;
use crate::commands::carried;
use crate::commands::key::import::{Given, import_file};
use crate::commands::pasted_errand::{look_for_key, pasted_text};
use crate::commands::trust::accept::{by_line, tell_trusted};
use crate::screen::failure::{Failure, code};
use crate::screen::fit::{Fit, fit};
use crate::screen::output;
use crate::terminal::confirm;
use crate::terminal::prompt::Terminal;

pub(super) fn run(args: &AddArgs, home: &Home, json: bool) -> Result<(), Failure> {
    check_name_of("machine name", &args.name)?;
    let book = MachineBook::load(home)?;
    if book.get(&args.name).is_ok() {
        return Err(lantern_book::BookError::Exists { what: "machine", name: args.name.clone() }.into());
    }
    if let Some(text) = args.paste.as_deref() {
        let text = pasted_text(text)?;
        if UnprovenLine::is_in(&text) {
            return prepared(args, home, &text, json);
        }
        return plainly(args, home, book, Some(&text), json);
    }
    plainly(args, home, book, None, json)
}

/// A machine that says itself what it is, by the line that its console printed: into the book with it, and known by what it then presents.
fn prepared(args: &AddArgs, home: &Home, text: &str, json: bool) -> Result<(), Failure> {
    let (line, preparation) = carried::prove(home, &args.name, text)?;
    let mut machine = Settings::new();
    let mut set = |field, text: &str| machine.apply(&Change::Set(field, FieldValue::parse(field, text)?));
    set(Field::Address, &line.address)?;
    if line.protocol == Protocol::Winrm {
        set(Field::Protocol, "winrm")?;
    }
    let usual = match line.protocol {
        Protocol::Ssh => lantern_book::DEFAULT_SSH_PORT,
        Protocol::Winrm => lantern_book::DEFAULT_WINRM_PORT,
    };
    if line.port != usual {
        set(Field::Port, &line.port.to_string())?;
    }
    if let Some(user) = &line.user {
        set(Field::User, user)?;
    }
    if !preparation.keys.is_empty() {
        set(Field::Key, &preparation.keys.join(","))?;
    }
    by_options(args, &mut machine)?;
    for text in &args.settings {
        machine.apply(&Change::parse(text)?)?;
    }
    check_names(home, &MachineBook::load(home)?, &machine)?;
    MachineBook::add(home, &args.name, &machine)?;
    let target = Target::resolve(home, &args.name)?;
    if !json {
        output::say(format!("{} is in the book, at {}.", args.name, target.place()));
    }
    let connect = ConnectArgs { no_questions: true, ..ConnectArgs::default() };
    let known = block_on(by_line(home, &target, &line, &connect))?;
    if json {
        return output::print_json(&machine_json(
            &args.name,
            &MachineBook::load(home)?.effective(&args.name)?,
        ));
    }
    tell_trusted(&args.name, &known);
    output::say(format!("Next: lantern check {}", args.name));
    Ok(())
}

/// By an address, a text, or a person's answers.
fn plainly(
    args: &AddArgs,
    home: &Home,
    book: MachineBook,
    text: Option<&str>,
    json: bool,
) -> Result<(), Failure> {
    let (mut machine, mut more) = by_address(args)?;
    let pasted = text.map(Pasted::parse).transpose()?;
    if let Some(pasted) = &pasted {
        machine = pasted.settings()?;
    }
    by_options(args, &mut machine)?;
    for text in more.drain(..) {
        machine.apply(&Change::parse(&text)?)?;
    }
    // A profile may say where it is: machines on ports of one hypervisor, say.
    let has_address = |profile: &String| {
        book.effective_profile(profile).is_ok_and(|effective| !effective.list(Field::Address).is_empty())
    };
    let said =
        !machine.list(Field::Address).is_empty() || machine.list(Field::Profiles).iter().any(has_address);
    if pasted.is_none() && !said {
        ask_for_missing(&args.name, home, &book, &mut machine)?;
    }
    let by_image = image_user(args, &mut machine)?;
    check_names(home, &book, &machine)?;
    if let Some(pasted) = &pasted {
        settle_paste(args, home, pasted, &mut machine)?;
    }
    MachineBook::add(home, &args.name, &machine)?;
    let book = MachineBook::load(home)?;
    let effective = book.effective(&args.name)?;
    if json {
        return output::print_json(&machine_json(&args.name, &effective));
    }
    if let Some(by_image) = by_image {
        output::say(&by_image);
    }
    output::say(format!(
        "{} is in the book, at {}. Next: lantern check {}",
        args.name,
        effective.place(),
        args.name
    ));
    Ok(())
}

/// What the address says, and the words behind it that are settings: with one word it may be either.
fn by_address(args: &AddArgs) -> Result<(Settings, Vec<String>), Failure> {
    let mut more = args.settings.clone();
    let mut machine = Settings::new();
    let Some(address) = &args.address else { return Ok((machine, more)) };
    if address.contains('=') && !address.contains("://") {
        more.insert(0, address.clone());
        return Ok((machine, more));
    }
    let twice = |what: &str| {
        Failure::new(code::USAGE, format!("the {what} is given twice, in the address and as an option"))
    };
    if !address.contains(['@', ':']) {
        return Ok((machine.with_text(Field::Address, address)?, more));
    }
    if let Destination::OneOff(typed) = Destination::parse(address)? {
        machine = machine.with(Field::Address, FieldValue::List(vec![typed.address]))?;
        let usual = match typed.protocol {
            Protocol::Ssh => lantern_book::DEFAULT_SSH_PORT,
            Protocol::Winrm => lantern_book::DEFAULT_WINRM_PORT,
        };
        if typed.protocol == Protocol::Winrm {
            machine = machine.with_text(Field::Protocol, "winrm")?;
        }
        if has_port(address) && args.port.is_some() {
            return Err(twice("port"));
        }
        if typed.user.is_some() && args.user.is_some() {
            return Err(twice("user"));
        }
        if typed.port != usual {
            machine = machine.with(Field::Port, FieldValue::Number(typed.port.into()))?;
        }
        if let Some(user) = typed.user {
            machine = machine.with(Field::User, FieldValue::Text(user))?;
        }
    }
    Ok((machine, more))
}

/// Whether an address typed as one word has a port in it.
fn has_port(typed: &str) -> bool {
    let host = typed.rsplit('@').next().unwrap_or(typed);
    let host = host.split("://").last().unwrap_or(host);
    host.contains("]:") || host.matches(':').count() == 1
}

fn by_options(args: &AddArgs, machine: &mut Settings) -> Result<(), Failure> {
    let text = |text: &Option<String>| text.clone().map(FieldValue::Text);
    let list = |list: &[String]| Some(FieldValue::List(list.to_vec())).filter(|_| !list.is_empty());
    let options = [
        (Field::Port, args.port.map(|port| FieldValue::Number(port.into()))),
        (Field::User, text(&args.user)),
        (Field::Image, text(&args.image)),
        (Field::Key, text(&args.key)),
        (Field::Gateway, list(&args.gateways)),
        (Field::Profiles, list(&args.profiles)),
        (Field::ForwardAgent, args.forward_agent.then_some(FieldValue::Flag(true))),
        (Field::Tags, list(&args.tags)),
        (Field::Note, text(&args.note)),
    ];
    for (field, value) in options {
        if let Some(value) = value {
            machine.apply(&Change::Set(field, value.for_field(field)?))?;
        }
    }
    Ok(())
}

/// The first user of the image, when nothing else says a user; what to say about it.
fn image_user(args: &AddArgs, machine: &mut Settings) -> Result<Option<String>, Failure> {
    let Some(word) = &args.image else { return Ok(None) };
    let Some(image) = image(word) else {
        let known: Vec<&str> = lantern_book::IMAGES.iter().map(|image| image.name).collect();
        return Ok(Some(format!(
            "note: no first user is known for images called {word}; known are {}",
            known.join(", ")
        )));
    };
    if machine.get(Field::User).is_some() {
        return Ok(None);
    }
    let Some((first, others)) = image.users.split_first() else { return Ok(None) };
    machine.apply(&Change::Set(Field::User, FieldValue::Text((*first).to_owned())))?;
    let others =
        if others.is_empty() { String::new() } else { format!("; elsewhere it is {}", others.join(" or ")) };
    Ok(Some(format!("The first user of {} images is {first}{others}.", image.name)))
}

/// Asks a person for address, user and key.
fn ask_for_missing(
    name: &str,
    home: &Home,
    book: &MachineBook,
    machine: &mut Settings,
) -> Result<(), Failure> {
    let hint = format!("lantern machine add {name} ADDRESS");
    if Terminal::open().is_none() {
        return Err(Failure::new(code::USAGE, format!("no address is given for {name}")).hint(hint));
    }
    let address = loop {
        let question = "Address (a name, an IP address, or user@address:port): ";
        let Some(answer) = confirm::line(question, &hint)? else { continue };
        match Pasted::parse(&answer).and_then(|pasted| pasted.settings()).or_else(|_| Settings::at(&answer)) {
            Ok(understood) => break understood,
            Err(error) => output::say(error.to_string()),
        }
    };
    for setting in address.iter() {
        machine.apply(&Change::Set(setting.field, setting.value.clone()))?;
    }
    if machine.get(Field::User).is_none() {
        let usual = book.defaults().get(Field::User).map(ToString::to_string).or_else(settings::local_user);
        let shown = usual.map(|user| format!(" [{user}]")).unwrap_or_default();
        if let Some(user) = confirm::line(&format!("User{shown}: "), &hint)? {
            machine.apply(&Change::Set(Field::User, FieldValue::parse(Field::User, &user)?))?;
        }
    }
    let keys: Vec<String> = KeyRing::new(home)
        .summaries()?
        .into_iter()
        .filter_map(|(name, key)| key.is_ok().then_some(name))
        .collect();
    while machine.get(Field::Key).is_none() && !keys.is_empty() {
        match confirm::line(&format!("Key ({}) [any of them]: ", keys.join(", ")), &hint)? {
            None => break,
            Some(key) if keys.contains(&key) => {
                machine.apply(&Change::Set(Field::Key, FieldValue::parse(Field::Key, &key)?))?;
            }
            Some(key) => output::say(format!("No key of the ring is called {key}.")),
        }
    }
    Ok(())
}

/// Shows what was understood, offers the key file to the ring, and asks before it is saved.
fn settle_paste(args: &AddArgs, home: &Home, pasted: &Pasted, machine: &mut Settings) -> Result<(), Failure> {
    let mut pairs: Vec<(&str, Fit)> = vec![("machine", Fit::line(&args.name))];
    pairs.extend(machine.iter().map(|setting| (setting.field.name(), setting.value.to_string().into())));
    if let Some(file) = &pasted.key_file {
        pairs.push(("key file", file.into()));
    }
    if !pasted.left_over.is_empty() {
        pairs.push(("left out", pasted.left_over.join(" ").into()));
    }
    if !pasted.doubts.is_empty() {
        pairs.push(("but", pasted.doubts.join("; ").into()));
    }
    output::warn_block(fit!("Understood:\n{}", output::fields(&pairs).indented(2)));
    if let Some(doubt) = pasted.doubt().filter(|_| args.yes) {
        let failure = Failure::new(code::USAGE, "the pasted text can be understood in more than one way");
        return Err(failure
            .detail(doubt)
            .hint("without `--yes` it is shown and asked about; or paste what matters of it"));
    }
    if !args.yes {
        confirm::agree("Save it?", "`--yes` saves what was understood")?;
    }
    let Some(file) = pasted.key_file.as_deref().filter(|_| machine.get(Field::Key).is_none()) else {
        return Ok(());
    };
    if args.yes || Terminal::open().is_none() {
        output::say(format!(
            "The key file {file} is not in the ring: lantern key import {file} --name {}",
            args.name
        ));
        return Ok(());
    }
    let Some(FoundKey { path, .. }) = look_for_key(file, true)? else {
        output::say(format!("When there is one: lantern key import {file} --name {}", args.name));
        return Ok(());
    };
    let shown = path.display().to_string();
    if confirm::ask(&format!("Take the key file {shown} into the ring?"), "")? {
        let (key, _) = import_file(&shown, &args.name, home, Given { passphrase: None, once: true })?;
        machine.apply(&Change::Set(Field::Key, FieldValue::parse(Field::Key, &key)?))?;
    }
    Ok(())
}
