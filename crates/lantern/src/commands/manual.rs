//! `lantern manual`: a page for each command, and one for the book's file.

use std::fs;
use std::path::{Path, PathBuf};

use clap::{Command, CommandFactory};
use lantern_book::FIELDS;

use crate::cli::Cli;
use crate::cli::manual::ManualArgs;
use crate::screen::failure::{Failure, code};
use crate::screen::output;

/// What all commands read and write.
const FILES: &[(&str, &str)] = &[
    ("machines.toml", "the book: machines, profiles, defaults; see machines.toml(5)"),
    ("trust.toml", "what each machine proved to be"),
    (
        "keys/",
        "the key ring: a private and a public file for each key, and ring.toml with what they cannot say",
    ),
    ("imports.toml", "what imports said of machines last"),
    ("hints/, uses/", "what servers prefer, and when machines were used; losing them costs little"),
    ("keeper.sock", "where the keeper listens"),
    ("held.sock", "where it tells passwords, which no agent's socket does"),
];

/// What the environment says.
const ENVIRONMENT: &[(&str, &str)] = &[
    ("LANTERN_HOME", "the folder of book, trust and keys, unless --home says another"),
    ("USER, LOGNAME", "the user that machines are tried with when nothing else is known"),
    ("SSH_AUTH_SOCK", "another agent that may sign, besides the keeper"),
    ("VISUAL, EDITOR", "the editor of machine edit"),
    ("DISPLAY", "the display that machines' programs draw on"),
    ("NO_COLOR", "no colors, when it is set"),
    ("LC_ALL, LC_CTYPE, LANG", "which characters the terminal has"),
    ("XDG_CONFIG_HOME", "where the home is, when nothing else says: brass-lantern below it"),
    ("XDG_DOWNLOAD_DIR", "where key files are looked for that a pasted text names"),
];

pub(crate) fn run(args: &ManualArgs) -> Result<(), Failure> {
    let failed =
        |error: std::io::Error| Failure::new(code::LOCAL, format!("cannot write the manual: {error}"));
    // As it is: a page has no short form.
    let mut command = Cli::command();
    command.build();
    let Some(folder) = &args.to else {
        return output::print_raw(&page(&command, "lantern").map_err(failed)?);
    };
    fs::create_dir_all(folder).map_err(failed)?;
    let mut count = 0;
    write_pages(&command, folder, &mut count).map_err(failed)?;
    let book = section_five(folder);
    fs::create_dir_all(&book).map_err(failed)?;
    fs::write(book.join("machines.toml.5"), book_page()).map_err(failed)?;
    output::say(format!("{} pages in {}", count + 1, folder.display()));
    Ok(())
}

/// Where pages about files go: beside those about commands, when the folder is one of a manual's.
fn section_five(folder: &Path) -> PathBuf {
    match folder.file_name().is_some_and(|name| name == "man1") {
        true => folder.with_file_name("man5"),
        false => folder.to_owned(),
    }
}

fn write_pages(command: &Command, folder: &Path, count: &mut u32) -> std::io::Result<()> {
    let name = command.get_display_name().unwrap_or(command.get_name()).to_owned();
    if command.is_hide_set() || command.get_name() == "help" {
        return Ok(());
    }
    fs::write(folder.join(format!("{name}.1")), page(command, &name)?)?;
    *count += 1;
    command.get_subcommands().try_for_each(|inner| write_pages(inner, folder, count))
}

/// The page of a command.
fn page(command: &Command, name: &str) -> std::io::Result<Vec<u8>> {
    let after = command.get_after_help().map(ToString::to_string).unwrap_or_default();
    let (examples, notes) = after.split_once("\n\n").unwrap_or((&after, ""));
    let examples = examples.trim_start_matches("Examples:").trim_matches('\n');
    // What is said behind the examples has a place of its own in a page.
    let plain = command
        .clone()
        .name(name.to_owned().leak() as &'static str)
        .after_help(clap::builder::StyledStr::new());
    let man = clap_mangen::Man::new(plain);
    let mut out = Vec::new();
    man.render_title(&mut out)?;
    man.render_name_section(&mut out)?;
    man.render_synopsis_section(&mut out)?;
    man.render_description_section(&mut out)?;
    for paragraph in notes.split("\n\n").filter(|text| !text.is_empty()) {
        out.extend(format!(".PP\n{}\n", roff(paragraph)).into_bytes());
    }
    man.render_options_section(&mut out)?;
    if command.get_subcommands().any(|inner| !inner.is_hide_set()) {
        man.render_subcommands_section(&mut out)?;
    }
    let mut rest = String::new();
    if !examples.is_empty() {
        rest.push_str(&format!(".SH EXAMPLES\n.nf\n{}\n.fi\n", roff(examples)));
    }
    rest.push_str(&listed(
        "FILES",
        "In the home, which is brass-lantern in the configuration folder unless told otherwise:",
        FILES,
    ));
    rest.push_str(&listed("ENVIRONMENT", "", ENVIRONMENT));
    rest.push_str(".SH EXIT STATUS\n0 for success. For run and shell it is the machine's own. 240 to 254 are failures of lantern itself; lantern\\-exit\\-codes(1) lists them.\n");
    rest.push_str(&format!(".SH SEE ALSO\n{}\n", see_also(command, name)));
    out.extend(rest.into_bytes());
    Ok(out)
}

/// The pages around a page.
fn see_also(command: &Command, name: &str) -> String {
    let mut names: Vec<String> =
        name.rsplit_once('-').map(|(above, _)| above.to_owned()).into_iter().collect();
    let below = command.get_subcommands().filter(|inner| !inner.is_hide_set() && inner.get_name() != "help");
    names.extend(below.map(|inner| format!("{name}-{}", inner.get_name())));
    let mut pages: Vec<String> = names.iter().map(|name| format!(".BR {} (1)", roff(name))).collect();
    pages.push(".BR machines.toml (5)".into());
    let last = pages.len() - 1;
    pages
        .iter()
        .enumerate()
        .map(|(at, page)| if at < last { format!("{page},") } else { page.clone() })
        .collect::<Vec<_>>()
        .join("\n")
}

fn listed(heading: &str, lead: &str, items: &[(&str, &str)]) -> String {
    let mut text = format!(".SH {heading}\n");
    if !lead.is_empty() {
        text.push_str(&format!("{}\n", roff(lead)));
    }
    for (name, about) in items {
        text.push_str(&format!(".TP\n.B {}\n{}\n", roff(name), roff(about)));
    }
    text
}

/// The page of the book's file.
fn book_page() -> String {
    let mut text = String::from(
        ".TH machines.toml 5\n.SH NAME\nmachines.toml \\- the book of machines\n.SH DESCRIPTION\n",
    );
    text.push_str(&roff("The book holds machines, profiles that they share, and defaults for all. It is TOML in UTF-8, made to be read, edited by hand and kept under version control: no secret is ever in it. Commands that change it keep comments and order. A field that is not known is an error that names the line."));
    text.push_str("\n.PP\n");
    text.push_str(&roff("[machines.NAME] is a machine, [profiles.NAME] a profile, [defaults] what holds where nothing nearer says otherwise. What a machine says itself goes before its profiles, and those before the defaults; lists of profiles and tags are joined."));
    text.push_str("\n.SH FIELDS\n");
    for spec in FIELDS {
        let fallback = match spec.fallback {
            "" => String::new(),
            fallback => format!(" When not set: {fallback}."),
        };
        text.push_str(&format!(
            ".TP\n.B {}\n{}; {}.{}\n",
            roff(spec.name),
            roff(spec.about),
            roff(spec.allowed),
            roff(&fallback)
        ));
    }
    text.push_str(".SH EXAMPLES\n.nf\n");
    text.push_str(&roff("[defaults]\nuser = \"keeper\"\n\n[profiles.coast]\nkey = \"harbour\"\ngateway = \"harbour-gate\"\n\n[machines.harbour-gate]\naddress = \"192.0.2.1\"\n\n[machines.lamp-01]\naddress = \"10.0.0.7\"\nprofiles = \"coast\"\ntags = [\"coast\", \"north\"]"));
    text.push_str("\n.fi\n.SH SEE ALSO\n.BR lantern (1),\n.BR lantern\\-machine (1),\n.BR lantern\\-machine\\-schema (1),\n.BR lantern\\-profile (1)\n");
    text
}

/// Text as a page has it: nothing of it is an instruction.
fn roff(text: &str) -> String {
    let line = |line: &str| {
        let line = line.replace('\\', "\\e").replace('-', "\\-");
        match line.starts_with(['.', '\'']) {
            true => format!("\\&{line}"),
            false => line,
        }
    };
    text.lines().map(line).collect::<Vec<_>>().join("\n")
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn every_command_has_a_page_that_says_what_pages_say_and_no_hidden_one_has() {
        let folder = tempfile::tempdir().unwrap();
        let to = folder.path().join("man1");
        run(&ManualArgs { to: Some(to.clone()) }).unwrap();
        let pages: Vec<String> =
            fs::read_dir(&to).unwrap().map(|file| file.unwrap().file_name().into_string().unwrap()).collect();
        assert!(
            pages.len() > 40 && !pages.iter().any(|name| name.contains("serve") || name.contains("help")),
            "{pages:?}"
        );
        for name in &pages {
            let text = fs::read_to_string(to.join(name)).unwrap();
            for heading in [
                ".SH NAME",
                ".SH SYNOPSIS",
                ".SH FILES",
                ".SH ENVIRONMENT",
                ".SH \"SEE ALSO\"",
                ".SH SEE ALSO",
            ] {
                let is_other_form = heading.contains("SEE ALSO");
                assert!(
                    text.contains(heading) || is_other_form && text.contains("SEE ALSO"),
                    "{name}: {heading}"
                );
            }
            assert!(!text.contains("keeper\\-serve"), "{name} tells of a hidden command");
        }
        for name in ["lantern-run.1", "lantern-key-new.1"] {
            assert!(fs::read_to_string(to.join(name)).unwrap().contains(".SH EXAMPLES"), "{name}");
        }
        let book = fs::read_to_string(folder.path().join("man5/machines.toml.5")).unwrap();
        assert!(FIELDS.iter().all(|spec| book.contains(&roff(spec.name))));
        assert_eq!(roff(".so x\n'y\n-\\"), "\\&.so x\n\\&'y\n\\-\\e");
    }
}
