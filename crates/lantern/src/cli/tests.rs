//! Whatever people are told to type, by help, messages, manuals or the demo, can be typed.

use std::path::{Path, PathBuf};

use clap::error::ErrorKind;
use clap::{CommandFactory, Parser};

use super::Cli;

const FINGERPRINT: &str = "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA";

/// Words as a shell takes them apart; nothing where a quote is left open.
fn words(line: &str) -> Option<Vec<String>> {
    let (mut words, mut word, mut quote) = (Vec::new(), None::<String>, None);
    for c in line.chars() {
        match (c, quote) {
            (c, Some(open)) if c == open => quote = None,
            (c, Some(_)) => word.get_or_insert_default().push(c),
            ('\'' | '"', None) => {
                quote = Some(c);
                word.get_or_insert_default();
            }
            (c, None) if c.is_whitespace() => words.extend(word.take()),
            (c, None) => word.get_or_insert_default().push(c),
        }
    }
    words.extend(word);
    quote.is_none().then_some(words)
}

/// The command in a line: without what goes before it, a pipe behind it, and remarks, which stand apart.
fn command(line: &str) -> Option<&str> {
    let line = line.trim().trim_start_matches("% ").trim_start_matches("$ ");
    let start = match line.rfind("| lantern ") {
        Some(at) => at + 2,
        None if line.starts_with("lantern ") => 0,
        None => return None,
    };
    let command = line.get(start..)?;
    let ends = ["  ", " | ", " > ", " && ", "; ", " #", " < ", " 3< "];
    let end = ends.iter().filter_map(|end| command.find(end)).min().unwrap_or(command.len());
    command.get(..end)
}

/// Tries to parse a command, with something that fits in place of what stands for something else.
fn parse(command: &str) -> Result<(), String> {
    let mut met = String::new();
    let is_name = command.split(' ').all(|word| !word.contains(|c: char| !c.is_ascii_lowercase()));
    for stand_in in [
        "x1",
        "3",
        FINGERPRINT,
        "bash",
        "address=192.0.2.7",
        "csv",
        "key",
        "openssh-key-v1",
        "debian",
        "exit-codes",
    ] {
        let mut text = command.replace("SHA256:…", FINGERPRINT);
        while let (Some(start), Some(end)) = (text.find('{'), text.find('}')) {
            if end < start {
                break;
            }
            text.replace_range(start..=end, stand_in);
        }
        let words = words(&text).ok_or_else(|| format!("an open quote in `{command}`"))?;
        let is_placeholder = |word: &str| {
            let plain = word.trim_end_matches(['…', '.']);
            let is_letter = |c: char| c.is_ascii_uppercase();
            plain.contains(is_letter) && plain.chars().all(|c| is_letter(c) || "-|".contains(c))
        };
        let words = words.into_iter().map(|word| match word.as_str() {
            "…" | "..." => stand_in.to_owned(),
            other if is_placeholder(other) => stand_in.to_owned(),
            _ => word,
        });
        match super::parse(&words.map(std::ffi::OsString::from).collect::<Vec<_>>()) {
            Ok(_) => return Ok(()),
            // Help and the like are answers.
            Err(error) if !error.use_stderr() => return Ok(()),
            // A command that is only named.
            Err(error) if is_name && error.kind() != ErrorKind::InvalidSubcommand => return Ok(()),
            Err(error) => met = error.to_string(),
        }
    }
    Err(format!("`{command}`: {}", met.lines().next().unwrap_or_default()))
}

/// Every command of a text: on a line of its own, or between backticks.
fn commands(text: &str) -> Vec<String> {
    let own_lines = text.lines().filter_map(command);
    let quoted =
        text.split('`').skip(1).step_by(2).filter(|quoted| !quoted.contains('\n')).filter_map(command);
    // What is signed in a trust file begins like a command, and is none.
    let all = own_lines.chain(quoted).filter(|command| !command.contains("trust file, form"));
    all.map(str::to_owned).collect()
}

fn refused(commands: impl IntoIterator<Item = String>) -> Vec<String> {
    commands.into_iter().filter_map(|command| parse(&command).err()).collect()
}

fn files(folder: &Path, extension: &str, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap().map(Result::unwrap) {
        let path = entry.path();
        if path.is_dir() {
            files(&path, extension, found);
        } else if path.extension().is_some_and(|other| other == extension) {
            found.push(path);
        }
    }
}

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// What the other tests go by: slips are met, and stand-ins are not taken for slips.
#[test]
fn a_command_that_cannot_be_typed_is_met() {
    for wrong in [
        "lantern check lamp-01 --port 22",
        "lantern keep status",
        "lantern key instal harbour",
        "lantern run lamp-01 -- 'open",
        "lantern trust accept NAME --expect nothing",
    ] {
        assert!(parse(wrong).is_err(), "{wrong}");
    }
    for right in
        ["lantern key withdraw", "lantern run {name} -- true", "lantern trust accept {} --expect SHA256:…"]
    {
        parse(right).unwrap();
    }
    let text =
        "  % lantern key list\nsee `lantern check NAME`, or tar x | lantern run lamp-01 -- sh  a remark";
    assert_eq!(commands(text), ["lantern key list", "lantern run lamp-01 -- sh", "lantern check NAME"]);
}

/// The quick way understands what the whole does, and takes nothing for something else.
#[test]
fn the_quick_way_leads_to_the_same_place() {
    let lines = [
        "lantern run lamp-01 -- uptime",
        "lantern --json run lamp-01 --no-input -- run -v --json",
        "lantern -vv --home /tmp/run shell lamp-01 --dead-after 5",
        "lantern check run shell --fix --yes -j",
        "lantern --home run check @coast --user keeper --log x",
        "lantern run lamp-01 --gateway a --gateway b --expect SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA -- sh -c 'a b'",
        "lantern -q run check -- check",
    ];
    for line in lines {
        let words: Vec<std::ffi::OsString> = words(line).unwrap().into_iter().map(Into::into).collect();
        let quick = super::quick::parse(&words).unwrap_or_else(|| panic!("{line}"));
        let whole = Cli::try_parse_from(&words).unwrap();
        assert_eq!(format!("{quick:?}"), format!("{whole:?}"), "{line}");
    }
    // What the whole answers, complains about or does otherwise, it is left to.
    for line in [
        "lantern run",
        "lantern run --help",
        "lantern -h run",
        "lantern help run",
        "lantern check -h",
        "lantern run --version",
        "lantern -q -v run x -- y",
        "lantern run x --no-such -- y",
        "lantern key show run",
        "lantern machine list check",
        "lantern shel run",
    ] {
        let words: Vec<std::ffi::OsString> = words(line).unwrap().into_iter().map(Into::into).collect();
        let quick = super::quick::parse(&words);
        assert!(quick.is_none(), "{line}: {quick:?}");
    }
}

#[test]
fn the_command_line_holds_together() {
    Cli::command().debug_assert();
}

#[test]
fn every_example_of_the_help_can_be_typed() {
    fn walk(command: &clap::Command, path: &str, found: &mut Vec<String>, without: &mut Vec<String>) {
        let path = format!("{path} {}", command.get_name());
        let help = command.get_after_help().map(ToString::to_string).unwrap_or_default();
        let examples = commands(&help);
        if examples.is_empty() && !command.is_hide_set() && command.get_name() != "help" {
            without.push(path.clone());
        }
        found.extend(examples);
        command.get_subcommands().for_each(|inner| walk(inner, &path, found, without));
    }
    let (mut found, mut without) = (Vec::new(), Vec::new());
    walk(&Cli::command(), "", &mut found, &mut without);
    assert!(found.len() > 60, "only {} examples were found", found.len());
    assert_eq!(refused(found), Vec::<String>::new());
    assert_eq!(without, Vec::<String>::new(), "no examples");
}

#[test]
fn every_command_of_the_manuals_can_be_typed() {
    let mut pages = vec![root().join("README.md")];
    files(&root().join("docs"), "md", &mut pages);
    let texts = pages.iter().map(|page| std::fs::read_to_string(page).unwrap());
    let found: Vec<String> = texts.flat_map(|text| commands(&text)).collect();
    assert!(found.len() > 60, "only {} commands were found", found.len());
    assert_eq!(refused(found), Vec::<String>::new());
}

/// Messages are read out of the sources: what a person sees in a rare moment is checked like the rest.
#[test]
fn every_command_that_a_message_advises_can_be_typed() {
    let mut sources = Vec::new();
    files(&root().join("crates"), "rs", &mut sources);
    sources.retain(|path| {
        path.components().any(|part| part.as_os_str() == "src") && !path.ends_with("tests.rs")
    });
    let mut found = Vec::new();
    for path in sources {
        let source = std::fs::read_to_string(&path).unwrap();
        let source = source.split("#[cfg(test)]").next().unwrap_or_default();
        // Literals only, so that comments may say what they like.
        let code: String =
            source.lines().filter(|line| !line.trim_start().starts_with("//")).collect::<Vec<_>>().join("\n");
        let literals = code.split('"').skip(1).step_by(2);
        found.extend(literals.flat_map(|literal| commands(&literal.replace("\\n", "\n"))));
    }
    assert!(found.len() > 100, "only {} commands were found", found.len());
    assert_eq!(refused(found), Vec::<String>::new());
}

#[test]
fn every_command_of_the_demo_can_be_typed() {
    use lantern_operations::demo::{Beat, DemoMachine, changed_key, opening, walk};
    let machine = |name: &str| DemoMachine {
        name: name.to_owned(),
        address: "127.77.0.1:2222".parse().unwrap(),
        inner_address: None,
        is_windows: false,
        fingerprint: FINGERPRINT.parse().unwrap(),
    };
    let machines = ["lamp-01", "lamp-02", "foghorn", "harbour-gate", "pier-lamp", "chart-room"].map(machine);
    let beats = [opening(true), walk(&machines), changed_key("127.77.0.2:40000")].concat();
    let mut count = 0;
    for beat in beats {
        let (Beat::Run(run) | Beat::Window(run)) = beat else { continue };
        count += 1;
        let words = ["lantern".to_owned()].into_iter().chain(run.words);
        if let Err(error) = super::parse(&words.map(std::ffi::OsString::from).collect::<Vec<_>>()) {
            panic!("{error}");
        }
    }
    assert!(count > 20);
}

/// A slip is told with the nearest right word, and never with what was typed as a secret.
#[test]
fn slips_are_told_with_the_nearest_word() {
    let error = |line: &str| Cli::try_parse_from(line.split(' ')).unwrap_err().to_string();
    assert!(error("lantern machne list").contains("machine"), "{}", error("lantern machne list"));
    assert!(error("lantern run lamp-01 --usr x -- true").contains("--user"));
    assert!(error("lantern run lamp-01").contains("COMMAND"));
    assert!(error("lantern check").contains("SELECTION"));
    assert!(error("lantern key convert x --to png").contains("openssh-key-v1"));
    for (line, wanted) in [
        ("lantern shell x --connect-limit 0", "1..=3600"),
        ("lantern keeper add x --lifetime 90y", "ten years"),
        ("lantern run x --expect SHA256:nonsense -- true", "FINGERPRINT"),
        ("lantern key install a b --limit-from evil\\", "backslash"),
        ("lantern machine export --form xml", "csv"),
    ] {
        assert!(error(line).contains(wanted), "{}", error(line));
    }
}

/// Words that others have replaced stand nowhere any more, but where a book with one of them is told the new.
#[test]
fn replaced_words_are_gone() {
    const REPLACED: [&str; 8] = [
        "keep-alive",
        "keep_alive",
        "trust scan",
        "password-fd",
        "passphrase-fd",
        "Ctrl-^",
        "Field::Imported",
        "the word yes in full",
    ];
    let mut pages = vec![root().join("README.md")];
    files(&root().join("docs"), "md", &mut pages);
    for folder in std::fs::read_dir(root().join("crates")).unwrap() {
        files(&folder.unwrap().path().join("src"), "rs", &mut pages);
    }
    let exempt = |path: &Path| path.ends_with("book/src/field.rs") || path.ends_with("cli/tests.rs");
    let mut met = Vec::new();
    for page in pages.iter().filter(|page| !exempt(page)) {
        let text = std::fs::read_to_string(page).unwrap();
        met.extend(REPLACED.iter().filter(|word| text.contains(**word)).map(|word| (page.clone(), *word)));
    }
    assert!(pages.len() > 200 && met.is_empty(), "{met:?}");
}
