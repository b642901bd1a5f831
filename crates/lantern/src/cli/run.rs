//! Arguments of `lantern run`.

use std::ffi::{OsStr, OsString};

use clap::Args;

use crate::cli::acting::ActingArgs;
use crate::cli::connect::ConnectArgs;
use crate::cli::forward::ForwardArgs;
use crate::cli::many::ManyArgs;
use crate::cli::one_off::OneOffArgs;
use crate::cli::task::{ConfigurationArgs, TaskArgs};

/// Arguments of `run`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern run lamp-01 -- uptime
  lantern run lamp-01 'echo $HOME'
  lantern run keeper@192.0.2.7:2222 -- tar -cf - /var/log > logs.tar
  tar -cf - site | lantern run lamp-01 -- tar -xf -
  lantern run lamp-01 --display -- xclock
  lantern run lamp-01 --as root -- reboot-lamp
  lantern run @coast -- uptime                 many machines; those that say the same together
  lantern run 'lamp-*' --script tidy.sh --first 1
  lantern run --again failed
  lantern run chart-room -- ipconfig /all
  lantern run chart-room --interpreter -- 'dir C:\\logs'
  lantern run chart-room --expression 'Get-Service lamp-control'
  lantern run chart-room --script count.ps1 --argument since=2026-03-01 --json

Everything after MACHINE is the command. One word is a line for the shell of the user on the
machine, as it is. Several words behind -- arrive there as those words, quoted for a POSIX
shell; without -- they are joined with spaces, as programs do that call a remote shell by
themselves (version control, synchronisation): `lantern run` will do for one. Options of
lantern's go before the command.

On Windows the words are a program and its arguments, each of which arrives as it is; the
command interpreter, with its built-ins, pipes and variables, reads a string with --interpreter.

A script (--script) goes to the machine as the input of the program that its first line names, a
shell of POSIX where it names none, and is left nowhere.

With --as, the command runs as another user of the machine, through the program that the machine
has for that. The password that it may want is asked for once, or read (--as-password-from); it goes to
that program alone, at the prompt that was made for it, and never into the command's input.

On many machines, a table shows how far each is, and those that ended alike and said the same are
told together; where the output is no terminal, each line has its machine in front. Ctrl-C begins
no more machines, twice ends those that run. The exit code is 0 when all succeeded, 1 when some
did not, and one of lantern's own when none could be reached.

On Windows, a session of PowerShell runs a text (--script, --expression), over WinRM: the machine formats
what comes out as text, or it comes as objects, one a line (--json). Standard input goes into
its pipeline, line by line, where the text has a use for it. Its status is that of its `exit`,
1 where an error ended it, else 0. Ctrl-C stops the pipeline.

Standard input is passed on when it is a pipe or a file. A file is left where it stood, so that
a loop which reads its list from one goes on; for a list from a pipe, say --no-input.

Its exit status is passed on; a signal that ended it becomes 128 and its number. Ctrl-C sends it
the signal INT; a second one ends lantern (exit code 252).")]
pub(crate) struct RunArgs {
    /// A machine: a name in the book, or user@address:port; or many: names, globs, @tags, comma-separated
    #[arg(required_unless_present_any = ["paste", "again", "history"], add = crate::cli::completing::selection())]
    pub(crate) machine: Option<OsString>,
    /// The command: its words behind --, or a line for the machine's own shell
    #[arg(
        trailing_var_arg = true,
        required_unless_present_any = ["paste", "script", "expression", "again", "history"],
        value_name = "COMMAND"
    )]
    pub(crate) command: Vec<OsString>,
    #[command(flatten)]
    pub(crate) one_off: OneOffArgs,
    /// Don't pass on standard input: what a loop that reads its list from a pipe needs (while read m; do …)
    #[arg(long)]
    pub(crate) no_input: bool,
    /// Pass on what is typed, too: without it only what comes from a pipe or a file is
    #[arg(long, conflicts_with = "no_input")]
    pub(crate) input: bool,
    /// Have the machine's command interpreter read the command, as one string: built-ins, pipes and variables of Windows
    #[arg(long)]
    pub(crate) interpreter: bool,
    #[command(flatten)]
    pub(crate) task: TaskArgs,
    #[command(flatten)]
    pub(crate) configuration: ConfigurationArgs,
    #[command(flatten)]
    pub(crate) acting: ActingArgs,
    #[command(flatten)]
    pub(crate) many: ManyArgs,
    /// Whether -- stood before the command.
    #[arg(skip)]
    pub(crate) is_behind_dashes: bool,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
    #[command(flatten)]
    pub(crate) forward: ForwardArgs,
}

impl RunArgs {
    /// Notes whether `--` stood before the command, which is at the end of the words that were typed; and the word behind `--display` that says which kind.
    pub(crate) fn look_at_words(&mut self, typed: &[OsString]) {
        let is_behind = |words: &[OsString]| {
            let first = words.first().is_some_and(|word| word == "--display");
            first && words.get(1) == self.command.first()
        };
        if typed.windows(2).any(is_behind)
            && let Some(word) = self.command.first()
            && self.forward.take_kind(word)
        {
            self.command.remove(0);
            // Behind that word, `--` was taken for one of the command's.
            if self.command.first().is_some_and(|word| word == "--") {
                self.command.remove(0);
            }
        }
        let count = self.command_words().len();
        let before = typed.len().checked_sub(count + 1).and_then(|at| typed.get(at));
        self.is_behind_dashes = before.is_some_and(|word| word == "--");
    }

    /// The words of the command: with a pasted text in place of the machine, all of them.
    pub(crate) fn command_words(&self) -> Vec<&OsStr> {
        let first = self.machine.as_deref().filter(|_| self.one_off.paste.is_some());
        first.into_iter().chain(self.command.iter().map(OsString::as_os_str)).collect()
    }
}
