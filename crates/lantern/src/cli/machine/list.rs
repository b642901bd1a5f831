//! Arguments of `lantern machine list`.

use clap::Args;

use crate::cli::machine::selection::ExceptArgs;

/// Arguments of `machine list`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine list
  lantern machine list @coast --except lamp-03
  lantern machine list north keeper            parts of name, address, user, tags or note
  lantern machine list --where user=root --columns name,address,tags --sort address
  lantern machine list --tag coast --json")]
pub(crate) struct ListArgs {
    /// Only these: names, globs (`lamp-*`), tags (`@coast`), comma-separated; or words to search by
    #[arg(value_name = "SELECTION|WORDS", add = crate::cli::completing::selection())]
    pub(crate) selection: Vec<String>,
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
    /// Only machines with this tag
    #[arg(long, value_name = "WORD", add = crate::cli::completing::tags())]
    pub(crate) tag: Option<String>,
    /// Only machines of which this holds: FIELD=GLOB; may be given several times
    #[arg(long = "where", value_name = "FIELD=GLOB", add = crate::cli::completing::fields_to_say())]
    pub(crate) filters: Vec<String>,
    /// What to show: `name`, `place`, `used`, `seen` and fields, comma-separated
    #[arg(long, value_name = "FIELD,…", value_delimiter = ',', add = crate::cli::completing::columns())]
    pub(crate) columns: Vec<String>,
    /// What to sort by [default: name]
    #[arg(long, value_name = "FIELD", add = crate::cli::completing::columns())]
    pub(crate) sort: Option<String>,
}
