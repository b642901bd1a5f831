//! `lantern completions`

use clap_complete::env::Shells;

use crate::cli::completions::CompletionsArgs;
use crate::screen::failure::{Failure, code};
use crate::screen::output;

/// The variable by which a shell asks this program what it could complete.
pub(crate) const VARIABLE: &str = "LANTERN_COMPLETE";

/// Bash takes words apart at colons, where a place on a machine is one word: they are joined before the question, and the answer is what belongs behind
/// the last colon.
const BASH_COLONS: &str = r#"
_lantern_with_colons() {
    local words=() at index=0 front
    for at in "${!COMP_WORDS[@]}"; do
        if ((at > 1)) && [[ ${COMP_WORDS[at]} == : || ${COMP_WORDS[at - 1]} == : ]]; then
            words[${#words[@]} - 1]+=${COMP_WORDS[at]}
        else
            words+=("${COMP_WORDS[at]}")
        fi
        ((at == COMP_CWORD)) && index=$((${#words[@]} - 1))
    done
    COMP_WORDS=("${words[@]}") COMP_CWORD=$index
    _clap_complete_lantern "$1" "${words[index]}" "$3"
    front=${words[index]%"${words[index]##*:}"}
    [[ -n $front ]] && COMPREPLY=("${COMPREPLY[@]#"$front"}")
    return 0
}
complete -o nospace -o bashdefault -F _lantern_with_colons lantern
"#;

pub(crate) fn run(args: &CompletionsArgs) -> Result<(), Failure> {
    let name = args.shell.to_string();
    let shells = Shells::builtins();
    let shell = shells
        .completer(&name)
        .ok_or_else(|| Failure::new(code::USAGE, format!("there are no completions for {name}")))?;
    let mut script = Vec::new();
    shell
        .write_registration(VARIABLE, "lantern", "lantern", "lantern", &mut script)
        .map_err(|error| Failure::new(code::INTERNAL, format!("cannot write the script: {error}")))?;
    if name == "bash" {
        script.extend_from_slice(BASH_COLONS.as_bytes());
    }
    output::print_raw(&script)
}
