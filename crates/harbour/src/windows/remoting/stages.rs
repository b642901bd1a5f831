//! Commands of a simulated machine that take what another puts out.

use super::item::Item;

/// One of them at work.
#[derive(Debug)]
pub(super) enum Stage {
    First(i64),
    Properties(Vec<String>),
    Sort(Option<String>, Vec<Item>),
    Measure(Option<String>, i64, i64),
    Where(String, Item),
    /// Whether each line is an object of its own, the width, and the names of the columns once they are known.
    Text {
        by_line: bool,
        width: usize,
        all: Vec<Item>,
    },
    Count(i64),
    Nothing,
}

/// The arguments of a command, by name and by place.
#[derive(Debug, Clone, Default)]
pub(super) struct Arguments {
    pub(super) named: Vec<(String, Item)>,
    pub(super) placed: Vec<Item>,
}

impl Arguments {
    pub(super) fn named(&self, name: &str) -> Option<&Item> {
        self.named.iter().find(|(known, _)| known.eq_ignore_ascii_case(name)).map(|(_, item)| item)
    }

    pub(super) fn get(&self, name: &str, place: usize) -> Option<&Item> {
        self.named(name).or_else(|| self.placed.get(place))
    }

    pub(super) fn text(&self, name: &str, place: usize) -> Option<String> {
        self.get(name, place).map(Item::text)
    }

    /// The same, empty where there is none.
    pub(super) fn text_or_none(&self, name: &str, place: usize) -> String {
        self.text(name, place).unwrap_or_default()
    }

    pub(super) fn number(&self, name: &str, place: usize) -> Option<i64> {
        match self.get(name, place)? {
            Item::Number(number) => Some(*number),
            item => item.text().parse().ok(),
        }
    }

    pub(super) fn has(&self, name: &str) -> bool {
        self.named(name).is_some_and(|item| *item == Item::Flag(true))
    }

    fn texts(&self, name: &str, place: usize) -> Vec<String> {
        match self.get(name, place) {
            Some(Item::List(all)) => all.iter().map(Item::text).collect(),
            Some(item) => vec![item.text()],
            None => Vec::new(),
        }
    }
}

impl Stage {
    pub(super) fn new(name: &str, arguments: &Arguments) -> Option<Self> {
        Some(match name.to_lowercase().as_str() {
            "select-object" => match arguments.number("first", usize::MAX) {
                Some(count) => Self::First(count),
                None => Self::Properties(arguments.texts("property", 0)),
            },
            "sort-object" => Self::Sort(arguments.text("property", 0), Vec::new()),
            "measure-object" => Self::Measure(arguments.text("property", 0), 0, 0),
            "where-object" => Self::Where(arguments.text("property", 0)?, arguments.get("eq", 1)?.clone()),
            "out-string" => Self::Text {
                by_line: arguments.has("stream"),
                width: arguments
                    .number("width", usize::MAX)
                    .and_then(|width| width.try_into().ok())
                    .unwrap_or(120),
                all: Vec::new(),
            },
            "out-null" => Self::Nothing,
            "count-object" => Self::Count(0),
            _ => return None,
        })
    }

    fn take(&mut self, item: Item) -> Vec<Item> {
        match self {
            Self::First(left) => {
                *left -= 1;
                if *left >= 0 { vec![item] } else { Vec::new() }
            }
            Self::Properties(names) => {
                let all = names.iter().map(|name| (name.clone(), item.property(name))).collect();
                vec![Item::Bag("Selected.Object".into(), all)]
            }
            Self::Sort(_, all) => {
                all.push(item);
                Vec::new()
            }
            Self::Measure(property, count, sum) => {
                let item = property.as_ref().map_or(item.clone(), |name| item.property(name));
                *count += 1;
                *sum += if let Item::Number(number) = item { number } else { 0 };
                Vec::new()
            }
            Self::Where(name, value) => {
                let is = item.property(name).text().eq_ignore_ascii_case(&value.text());
                if is { vec![item] } else { Vec::new() }
            }
            // What has no properties is a line at once.
            Self::Text { by_line: true, all, .. } if all.is_empty() && !matches!(item, Item::Bag(..)) => {
                item.text().lines().map(|line| Item::Text(line.to_owned())).collect()
            }
            Self::Text { all, .. } => {
                all.push(item);
                Vec::new()
            }
            Self::Count(count) => {
                *count += 1;
                Vec::new()
            }
            Self::Nothing => Vec::new(),
        }
    }

    fn end(&mut self) -> Vec<Item> {
        match self {
            Self::Sort(name, all) => {
                let key = |item: &Item| name.as_ref().map_or(item.clone(), |name| item.property(name)).text();
                all.sort_by_key(key);
                std::mem::take(all)
            }
            Self::Measure(property, count, sum) => {
                let mut all = vec![("Count".to_owned(), Item::Number(*count))];
                if let Some(name) = property {
                    all.push(("Sum".to_owned(), Item::Number(*sum)));
                    all.push(("Property".to_owned(), Item::Text(name.clone())));
                }
                vec![Item::Bag("Measure.Info".into(), all)]
            }
            Self::Count(count) => vec![Item::Number(*count)],
            Self::Text { by_line, width, all } => {
                let lines = table(&std::mem::take(all), *width);
                match (*by_line, lines.is_empty()) {
                    (_, true) => Vec::new(),
                    (true, false) => lines.into_iter().map(Item::Text).collect(),
                    (false, false) => vec![Item::Text(lines.join("\r\n") + "\r\n")],
                }
            }
            _ => Vec::new(),
        }
    }
}

/// What comes out of several behind each other.
pub(super) fn feed(stages: &mut [Stage], item: Item) -> Vec<Item> {
    let Some((first, rest)) = stages.split_first_mut() else { return vec![item] };
    first.take(item).into_iter().flat_map(|item| feed(rest, item)).collect()
}

/// What comes out at the end.
pub(super) fn finish(stages: &mut [Stage]) -> Vec<Item> {
    let Some((first, rest)) = stages.split_first_mut() else { return Vec::new() };
    let last = first.end();
    let mut out: Vec<Item> = last.into_iter().flat_map(|item| feed(rest, item)).collect();
    out.extend(finish(rest));
    out
}

/// Objects in columns, as far as they have the same.
fn table(all: &[Item], width: usize) -> Vec<String> {
    let Some(Item::Bag(_, first)) = all.first() else {
        return all
            .iter()
            .flat_map(|item| item.text().lines().map(str::to_owned).collect::<Vec<_>>())
            .collect();
    };
    let names: Vec<String> = first.iter().map(|(name, _)| name.clone()).collect();
    let rows: Vec<Vec<String>> =
        all.iter().map(|item| names.iter().map(|name| item.property(name).text()).collect()).collect();
    let widths: Vec<usize> = names
        .iter()
        .enumerate()
        .map(|(at, name)| {
            let cells = rows.iter().filter_map(|row| row.get(at)).map(|cell| cell.chars().count());
            cells.chain([name.len()]).max().unwrap_or(0)
        })
        .collect();
    let line = |cells: &[String]| {
        let padded = cells.iter().zip(&widths).map(|(cell, width)| format!("{cell:<width$}"));
        let line = padded.collect::<Vec<_>>().join(" ");
        line.trim_end().chars().take(width).collect::<String>()
    };
    let dashes: Vec<String> = names.iter().map(|name| "-".repeat(name.len())).collect();
    let mut lines = vec![String::new(), line(&names), line(&dashes)];
    lines.extend(rows.iter().map(|row| line(row)));
    lines.push(String::new());
    lines
}
