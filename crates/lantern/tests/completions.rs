//! What shells complete: asked as they ask, and in the real one.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use support::Desk;

#[test]
fn shells_complete_from_the_book() {
    let desk = Desk::with_key();
    desk.lantern(&["machine", "add", "lamp-01", "192.0.2.1", "--tag", "coast"]).expect(0);
    desk.lantern(&["machine", "add", "foghorn", "192.0.2.2"]).expect(0);
    desk.lantern(&["tunnel", "add", "lamp-01", "page", "--local", "0", "--to", "127.0.0.1:80"]).expect(0);
    desk.lantern(&["tunnel", "add", "foghorn", "horn", "--dynamic", "0"]).expect(0);
    let complete = |words: &[&str]| -> String {
        let mut command = desk.command(&[&["--", "lantern"], words].concat());
        command.env("LANTERN_COMPLETE", "bash").env("_CLAP_COMPLETE_INDEX", words.len().to_string());
        command
            .env("_CLAP_IFS", "\n")
            .env("_CLAP_COMPLETE_COMP_TYPE", "9")
            .env("_CLAP_COMPLETE_SPACE", "true");
        String::from_utf8(command.output().unwrap().stdout).unwrap()
    };
    for (words, expected) in [
        (&["shell", "la"][..], "lamp-01"),
        (&["check", "@"], "@coast"),
        (&["check", "lamp-01,@"], "lamp-01,@coast"),
        (&["check", "lamp-01", "--except", "@"], "@coast"),
        (&["machine", "set", "lamp-01", "por"], "port="),
        (&["machine", "set", "lamp-01", "key="], "key=harbour"),
        (&["machine", "set", "lamp-01", "trust=k"], "trust=known-only"),
        (&["machine", "add", "x", "--key", ""], "harbour"),
        (&["key", "show", "har"], "harbour"),
        (&["key", "show", "./"], "./home/"),
        (&["key", "rotate", "harbour", "la"], "lamp-01"),
        (&["key", "new", "x", "--algorithm", "ecdsa"], "ecdsa-p256"),
        (&["key", "convert", "harbour", "--to", "pkcs8"], "pkcs8-pem"),
        (&["run", "--image", "deb"], "debian"),
        (&["machine", "list", "--columns", "name,us"], "name,used"),
        (&["trust", "show", "la"], "lamp-01"),
        (&["keeper", "add", "h"], "harbour"),
        (&["tunnel", "open", "foghorn", ""], "horn"),
        (&["tunnel", "close", "lamp-01", "p"], "page"),
        (&["run", "lamp-01", "--display=t"], "--display=trusted"),
        (&["machine", "set", "lamp-01", "forward-display=s"], "forward-display=single"),
        (&["profile", "set", "defaults", "keeper=a"], "keeper=auto"),
    ] {
        let met = complete(words);
        assert!(met.lines().any(|line| line == expected), "{words:?}: {met}");
    }
    assert!(!complete(&["tunnel", "open", "foghorn", ""]).contains("page"), "a tunnel of another machine");
    // As the other shell asks, with what each word means behind it.
    let as_zsh = |words: &[&str]| -> String {
        let mut command = desk.command(&[&["--", "lantern"], words].concat());
        command
            .env("LANTERN_COMPLETE", "zsh")
            .env("_CLAP_COMPLETE_INDEX", words.len().to_string())
            .env("_CLAP_IFS", "\n");
        String::from_utf8(command.output().unwrap().stdout).unwrap()
    };
    assert!(as_zsh(&["shell", "la"]).lines().any(|line| line == "lamp-01"), "{}", as_zsh(&["shell", "la"]));
    let commands = as_zsh(&["key", "sh"]);
    assert!(commands.lines().any(|line| line.starts_with("show:")), "{commands}");
    assert!(!as_zsh(&["keeper", ""]).contains("serve"), "a hidden command is completed");
}

/// The script that a shell loads asks lantern, and what it gets is completed: in the real shell, as far as there is one.
#[test]
fn the_real_shell_completes() {
    let desk = Desk::with_key();
    desk.lantern(&["machine", "add", "lamp-01", "192.0.2.1"]).expect(0);
    let script = r#"
        source <(lantern completions bash)
        COMP_WORDS=(lantern shell la); COMP_CWORD=2; COMP_LINE='lantern shell la'; COMP_POINT=${#COMP_LINE}; COMP_TYPE=9
        complete -p lantern >/dev/null || exit 3
        _clap_complete_lantern lantern la shell
        printf '%s\n' "${COMPREPLY[@]}"
    "#;
    let folder = std::path::Path::new(support::binary()).parent().unwrap().display().to_string();
    let mut command = std::process::Command::new("bash");
    command.args(["-c", script]).env_clear().env("LANTERN_HOME", desk.home());
    command.env("PATH", format!("{folder}:/usr/bin:/bin")).current_dir(desk.folder.path());
    let out: support::Outcome = command.output().unwrap().into();
    assert_eq!(out.expect(0).text().trim(), "lamp-01");
}

/// Paths of a machine come over a connection that the keeper holds; without one, nobody is connected to.
#[test]
fn paths_on_a_machine_are_completed_where_the_keeper_is_connected_to_it() {
    let desk = Desk::with_key();
    let lit = support::light(support::machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    let complete = |word: &str| -> Vec<String> {
        let mut command = desk.command(&["--", "lantern", "copy", word]);
        command.env("LANTERN_COMPLETE", "fish").env("_CLAP_COMPLETE_INDEX", "2").env("_CLAP_IFS", "\n");
        let out = String::from_utf8(command.output().unwrap().stdout).unwrap();
        out.lines().map(|line| line.split('\t').next().unwrap().to_owned()).collect()
    };
    assert!(complete("la").contains(&"lamp-01:".to_owned()));
    assert_eq!(complete("lamp-01:lo"), Vec::<String>::new());
    desk.lantern(&["keeper", "start"]).expect(0);
    assert_eq!(complete("lamp-01:lo"), Vec::<String>::new());
    desk.lantern(&["run", "lamp-01", "--", "whoami"]).expect(0);
    lit.lit.put_file("keeper", "/srv/\u{1b}[2Jlog", b"");
    assert_eq!(complete("lamp-01:lo"), ["lamp-01:log.txt"]);
    assert_eq!(complete("lamp-01:/s"), ["lamp-01:/srv/"]);
    assert_eq!(complete("lamp-01:/srv/"), Vec::<String>::new());
    assert_eq!(complete("lamp-01:/etc/lamp/l"), ["lamp-01:/etc/lamp/lamp.conf"]);
    // Bash takes the word apart.
    let script = r#"
        source <(lantern completions bash)
        complete -p lantern | grep -q _lantern_with_colons || exit 3
        COMP_WORDS=(lantern copy lamp-01 : lo); COMP_CWORD=4; COMP_LINE='lantern copy lamp-01:lo'; COMP_POINT=${#COMP_LINE}; COMP_TYPE=9
        _lantern_with_colons lantern lo :
        printf '%s\n' "${COMPREPLY[@]}"
        COMP_WORDS=(lantern shell la); COMP_CWORD=2; COMP_LINE='lantern shell la'; COMP_POINT=${#COMP_LINE}
        _lantern_with_colons lantern la shell
        printf '%s\n' "${COMPREPLY[@]}"
    "#;
    let folder = std::path::Path::new(support::binary()).parent().unwrap().display().to_string();
    let mut command = std::process::Command::new("bash");
    command.args(["-c", script]).env_clear().env("LANTERN_HOME", desk.home()).env("USER", "keeper");
    command.env("PATH", format!("{folder}:/usr/bin:/bin")).env("KRB5_CONFIG", "/nonexistent/krb5.conf");
    let out: support::Outcome = command.output().unwrap().into();
    assert_eq!(out.expect(0).text(), "log.txt\nlamp-01\n");
    desk.lantern(&["keeper", "stop"]).expect(0);
}
