//! The file service that we bring along: a machine that is administered by WinRM has none.
//!
//! It is a text in C#, which the machine compiles and which leaves nothing there. It speaks what `sftp` speaks over the standard streams of a
//! command, or in pieces that pipelines of a session carry.

use base64ct::{Base64, Encoding};

use crate::remoting::{Argument, Command, Parameter, Pipeline, Primitive};
use crate::words::{program_line, split};

/// Its text, as it was written.
const FILES: [&str; 3] = [include_str!("Names.cs"), include_str!("FileService.cs"), include_str!("Deeds.cs")];

/// Reads so many bytes of text, compiles it, and gives it the rest of its input.
const BEGIN: &str = "$ProgressPreference='SilentlyContinue';$ErrorActionPreference='Stop';\
try{$i=[Console]::OpenStandardInput();$l=LENGTH;$b=New-Object byte[] $l;$n=0;\
while($n -lt $l){$r=$i.Read($b,$n,$l-$n);if($r -lt 1){exit 96};$n+=$r};\
Add-Type -TypeDefinition ([Text.Encoding]::UTF8.GetString($b));\
exit ([BrassLantern.FileService]::Serve($i,[Console]::OpenStandardOutput()))}\
catch{[Console]::Error.WriteLine([string]$_);exit 97}";

/// Compiles it in a session. What it says of itself is nothing that anybody asked for.
const DEFINE: &str = "param([string]$text) $ErrorActionPreference='Stop'; $ProgressPreference='SilentlyContinue'; \
Add-Type -TypeDefinition $text";

/// Answers a piece of the conversation. What comes is one object and not as many as there are bytes.
const ANSWER: &str = "param([byte[]]$asked) ,[BrassLantern.FileService]::Answer($asked)";

/// The text of the service, without what is there for people.
pub fn text() -> String {
    let lines = FILES.iter().flat_map(|file| file.lines()).map(str::trim);
    let lines = lines.filter(|line| !line.is_empty() && !line.starts_with("//"));
    lines.fold(String::new(), |text, line| text + line + "\n")
}

/// The words of the command that runs it: it reads [`text`] first, and is the service from there on.
pub fn command() -> Vec<String> {
    let script = BEGIN.replace("LENGTH", &text().len().to_string());
    let units: Vec<u8> = script.encode_utf16().flat_map(u16::to_le_bytes).collect();
    // Without a form of input, it would read ours itself.
    let words = ["powershell.exe", "-NoLogo", "-NoProfile", "-NonInteractive", "-InputFormat", "None"];
    let mut words: Vec<String> = words.map(str::to_owned).into();
    words.extend(["-EncodedCommand".to_owned(), Base64::encode_string(&units)]);
    words
}

/// Whether a command line is this.
pub fn is_command(line: &str) -> bool {
    line.starts_with("powershell.exe ") && split(line) == command() && program_line(&command()).is_ok()
}

fn pipeline(script: &str, name: &str, value: Primitive) -> Pipeline {
    Pipeline { commands: vec![Command::script(script).with(name, value)], ..Pipeline::default() }
}

/// The pipeline that makes a session know the service.
pub fn definition() -> Pipeline {
    pipeline(DEFINE, "text", Primitive::String(text()))
}

/// The pipeline that carries a piece of the conversation, and puts out what is answered.
pub fn question(piece: Vec<u8>) -> Pipeline {
    pipeline(ANSWER, "asked", Primitive::Bytes(piece))
}

/// What a pipeline asks of the service.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Asked {
    /// To be known from now on.
    Defined,
    /// To answer this.
    Piece(Vec<u8>),
}

/// What a pipeline asks of the service, as a machine reads it; nothing where it is another pipeline.
pub fn asked(pipeline: &Pipeline) -> Option<Asked> {
    let [command] = pipeline.commands.as_slice() else { return None };
    let [Parameter { value: Argument::One(value), .. }] = command.parameters.as_slice() else { return None };
    match value {
        Primitive::String(sent) if command.text == DEFINE && *sent == text() => Some(Asked::Defined),
        Primitive::Bytes(piece) if command.text == ANSWER => Some(Asked::Piece(piece.clone())),
        _ => None,
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use crate::words::program_line;

    /// What Windows takes in a command line is 32,767 units, and what its interpreter takes is 8191.
    #[test]
    fn the_command_is_short_enough_for_any_way_of_starting_it() {
        let line = program_line(&command()).unwrap();
        assert!(line.len() < 8000, "{}", line.len());
        assert!(is_command(&line));
        assert!(!is_command("powershell.exe -NoLogo"));
    }

    #[test]
    fn what_is_sent_is_what_was_written_less_its_remarks() {
        let text = text();
        assert!(text.contains("class FileService") && text.contains("class Names"));
        // A remark at the end of a line, or a text over several, would not survive.
        assert!(!text.contains("//\u{20}") && !text.contains("@\"") && !text.contains("/*"), "{text}");
        assert!(text.is_ascii());
    }

    #[test]
    fn pipelines_of_the_service_are_told_from_others() {
        assert_eq!(asked(&definition()), Some(Asked::Defined));
        assert_eq!(asked(&question(vec![1, 2])), Some(Asked::Piece(vec![1, 2])));
        let other = Pipeline { commands: vec![Command::script("whoami")], ..Pipeline::default() };
        assert_eq!(asked(&other), None);
    }
}
