//! Picking a machine of the book.

use lantern_book::{Home, MachineBook, Uses};

use crate::screen::ago::ago;
use crate::screen::failure::{Failure, code};
use crate::screen::search::{Search, text_of};
use crate::terminal::picker::{Item, Picker};
use crate::terminal::prompt::{Answer, Terminal};

/// Has a person pick one: those that were used last come first.
///
/// # Errors
/// An empty book, nobody to ask, or nothing picked.
pub(super) fn pick(home: &Home) -> Result<String, Failure> {
    let book = MachineBook::load(home)?;
    let uses = Uses::of(home).all();
    let mut machines = Vec::new();
    for (name, _) in book.iter() {
        let effective = book.effective(name)?;
        let used = uses.get(name).and_then(|noted| noted.used);
        let user =
            effective.text(lantern_book::Field::User).map(|user| format!("{user}@")).unwrap_or_default();
        let tags = effective.list(lantern_book::Field::Tags).join(" ");
        let note = effective.text(lantern_book::Field::Note).unwrap_or_default().to_owned();
        let when = used.map(ago).unwrap_or_default();
        let production = effective.flag(lantern_book::Field::Production).unwrap_or(false);
        let production = if production { "PRODUCTION" } else { "" };
        let cells = vec![
            name.to_owned(),
            production.to_owned(),
            format!("{user}{}", effective.place()),
            when,
            tags,
            note,
        ];
        machines.push((used, name.to_owned(), text_of(name, &effective), Item { cells }));
    }
    if machines.is_empty() {
        return Err(Failure::new(code::USAGE, "the book has no machine to pick")
            .hint("lantern machine add NAME ADDRESS")
            .hint("lantern shell user@address"));
    }
    // The book's order, which is that of the names, stays among those that were never used.
    machines.sort_by_key(|(used, ..)| std::cmp::Reverse(*used));
    let (names, items): (Vec<(String, String)>, Vec<Item>) =
        machines.into_iter().map(|(_, name, text, item)| ((name, text), item)).unzip();
    let fitting = |typed: &str| {
        let mut search = Search::new(typed);
        let scored =
            names.iter().enumerate().filter_map(|(at, (name, text))| Some((search.score(name, text)?, at)));
        let mut scored: Vec<(u32, usize)> = scored.collect();
        scored.sort_by_key(|(score, at)| (std::cmp::Reverse(*score), *at));
        scored.into_iter().map(|(_, at)| at).collect()
    };
    let mut picker = Picker::new("Machine:", &items, fitting);
    let mut terminal =
        Terminal::open().ok_or_else(|| Failure::new(code::USAGE, "there is no terminal to pick at"))?;
    let left = || Failure::new(code::INTERRUPTED, "nothing was picked");
    match terminal.converse(&mut picker) {
        Answer::Given(()) => {
            let picked = picker.picked().and_then(|at| names.get(at));
            picked.map(|(name, _)| name.clone()).ok_or_else(left)
        }
        Answer::Interrupted | Answer::Ended => Err(left()),
    }
}
