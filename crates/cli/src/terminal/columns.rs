//! Tables that fit: columns as wide as what stands in them, broken between words where there
//! is no room, and a list where even that does not fit. Names, addresses and paths stay whole.

use comfy_table::{Attribute, Cell, ColumnConstraint, ContentArrangement, Table, Width};
use tipstaff_core::visible::visible_lines;
use unicode_width::UnicodeWidthStr;

use super::csv::field;
use super::fit::wrapped;

/// Columns of room beside what stands in a cell.
const PADDING: usize = 2;
/// Narrower terminals get a list where a table would be broken.
const NARROW: usize = 60;

/// A table: a header and rows, columns kept apart by space alone.
pub struct Columns {
    headings: Vec<String>,
    rows: Vec<Vec<Cell>>,
}

impl Columns {
    /// A table with these headings, in lines where they have line ends.
    pub fn new<'h>(headings: impl IntoIterator<Item = &'h str>) -> Self {
        Self {
            headings: headings.into_iter().map(|h| visible_lines(h).into_owned()).collect(),
            rows: Vec::new(),
        }
    }

    /// Adds a row.
    pub fn row(&mut self, cells: impl IntoIterator<Item = Cell>) {
        self.rows.push(cells.into_iter().collect());
    }

    /// As it fits so many columns; as wide as it is without a number.
    pub(super) fn render(&self, width: Option<usize>) -> String {
        let shown = self.shown();
        let measures: Vec<Measure> = shown.iter().map(|at| self.measure(*at)).collect();
        let whole: usize = measures.iter().map(|m| m.natural + PADDING).sum();
        let least: usize = measures.iter().map(|m| m.longest + PADDING).sum();
        match width {
            Some(width) if whole > width && (width < NARROW || least > width) => {
                self.list(&shown, width)
            }
            Some(width) if whole > width => self.table(&shown, Some(shared(&measures, width))),
            _ => self.table(&shown, None),
        }
    }

    /// As comma-separated values (RFC 4180), a line each: all columns, whatever stands in them,
    /// and nothing where there is nothing.
    pub(super) fn csv(&self) -> Vec<String> {
        let heading = |text: &String| match text.trim() {
            "" => "number".to_owned(),
            text => text.replace('\n', " "),
        };
        let cell = |cell: &Cell| match cell.content() {
            none if matches!(none.trim(), "–" | "·") => String::new(),
            text => text,
        };
        let line =
            |texts: Vec<String>| texts.iter().map(|text| field(text)).collect::<Vec<_>>().join(",");
        let head = line(self.headings.iter().map(heading).collect());
        let rows = self.rows.iter().map(|row| line(row.iter().map(cell).collect()));
        std::iter::once(head).chain(rows).collect()
    }

    /// The columns that say something.
    fn shown(&self) -> Vec<usize> {
        let says = |at: &usize| {
            self.rows.iter().any(|row| {
                let content = row.get(*at).map(Cell::content).unwrap_or_default();
                !matches!(content.trim(), "" | "–")
            })
        };
        let all: Vec<usize> = (0..self.headings.len()).collect();
        let shown: Vec<usize> = all.iter().copied().filter(says).collect();
        if shown.is_empty() { all } else { shown }
    }

    fn measure(&self, at: usize) -> Measure {
        let cells = self.rows.iter().filter_map(|row| row.get(at)).map(Cell::content);
        let mut measure = Measure::default();
        for text in cells.chain(self.headings.get(at).cloned()) {
            for line in text.lines() {
                measure.natural = measure.natural.max(line.width());
                let words = line.split_whitespace().map(UnicodeWidthStr::width);
                measure.longest = measure.longest.max(words.max().unwrap_or_default());
            }
        }
        measure
    }

    fn table(&self, shown: &[usize], widths: Option<Vec<usize>>) -> String {
        let mut table = Table::new();
        table.load_style(comfy_table::presets::NOTHING);
        table.enforce_styling();
        let heading = |at: &usize| {
            Cell::new(self.headings.get(*at).cloned().unwrap_or_default())
                .add_attribute(Attribute::Underlined)
        };
        table.set_header(shown.iter().map(heading));
        for row in &self.rows {
            table.add_row(shown.iter().filter_map(|at| row.get(*at).cloned()));
        }
        if let Some(widths) = widths {
            table.set_content_arrangement(ContentArrangement::Dynamic);
            let whole: usize = widths.iter().map(|width| width + PADDING).sum();
            table.set_width(u16::try_from(whole).unwrap_or(u16::MAX));
            for (at, width) in widths.iter().enumerate() {
                let width = u16::try_from(width + PADDING).unwrap_or(u16::MAX);
                if let Some(column) = table.column_mut(at) {
                    column.set_constraint(ColumnConstraint::Absolute(Width::Fixed(width)));
                }
            }
        } else {
            table.set_content_arrangement(ContentArrangement::Disabled);
        }
        let text = table.to_string();
        let lines: Vec<&str> = text.lines().map(str::trim_end).collect();
        lines.join("\n")
    }

    /// A row after the other: what it is called, and below it what else it says.
    fn list(&self, shown: &[usize], width: usize) -> String {
        let named = shown.iter().position(|at| !self.headings[*at].trim().is_empty());
        let title = named.unwrap_or_default();
        let (titles, rest) = shown.split_at((title + 1).min(shown.len()));
        let heading = |at: usize| self.headings[at].replace('\n', " ");
        let indent = rest.iter().map(|at| heading(*at).width()).max().unwrap_or_default();
        let mut lines = Vec::new();
        for row in &self.rows {
            let text = |at: &usize| row.get(*at).map(Cell::content).unwrap_or_default();
            let called: Vec<String> = titles.iter().map(text).collect();
            lines.push(wrapped(called.join("  ").trim(), width));
            for at in rest {
                let said = text(at).replace('\n', " ");
                if !said.trim().is_empty() {
                    let line = format!("    {:indent$}  {said}", heading(*at));
                    lines.push(wrapped(&line, width));
                }
            }
        }
        lines.join("\n")
    }
}

/// How wide a column would be, and how wide it must be so that no word is broken.
#[derive(Clone, Copy, Default)]
struct Measure {
    natural: usize,
    longest: usize,
}

/// The widths that fit: each column its longest word; then whole lines where little lacks, and
/// what is left to the widest.
fn shared(measures: &[Measure], width: usize) -> Vec<usize> {
    let mut widths: Vec<usize> = measures.iter().map(|m| m.longest).collect();
    let least: usize = widths.iter().map(|width| width + PADDING).sum();
    let mut left = width.saturating_sub(least);
    let mut by_lack: Vec<usize> = (0..widths.len()).collect();
    by_lack.sort_by_key(|at| measures[*at].natural - measures[*at].longest);
    for at in by_lack {
        let lacks = measures[at].natural - widths[at];
        let given = lacks.min(left);
        widths[at] += given;
        left -= given;
    }
    widths
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::terminal::plain;

    fn rules() -> Columns {
        let mut table = Columns::new(["", "name", "traffic", "source", "packets"]);
        let sources = "198.51.100.128/25, 2001:db8:51:ff::/64, 203.0.113.40-203.0.113.49";
        table.row([plain(1), plain("shell-for-staff"), plain("ssh"), plain(sources), plain("–")]);
        table.row([plain(2), plain("open"), plain("tcp/7410, udp/7420"), plain("any"), plain("–")]);
        table
    }

    /// As it is read, without colours.
    fn read(table: &Columns, width: Option<usize>) -> String {
        anstream::adapter::strip_str(&table.render(width)).to_string()
    }

    #[test]
    fn no_word_is_broken_at_any_width() {
        let table = rules();
        let words = ["shell-for-staff", "198.51.100.128/25,", "2001:db8:51:ff::/64,", "tcp/7410,"];
        for width in 20..140 {
            let text = read(&table, Some(width));
            for word in words {
                assert!(text.contains(word), "{width}:\n{text}");
            }
            let longest = text.lines().map(UnicodeWidthStr::width).max().unwrap();
            assert!(longest <= width.max(46), "{width}: {longest}\n{text}");
        }
    }

    #[test]
    fn other_programs_get_every_column() {
        let lines = rules().csv();
        assert_eq!(lines[0], "number,name,traffic,source,packets");
        assert_eq!(lines[2], "2,open,\"tcp/7410, udp/7420\",any,");
    }

    #[test]
    fn a_column_that_says_nothing_goes_and_a_narrow_terminal_gets_a_list() {
        let table = rules();
        assert!(!table.render(None).contains("packets"));
        insta::assert_snapshot!(format!(
            "{}\n---\n{}\n---\n{}",
            read(&table, None),
            read(&table, Some(70)),
            read(&table, Some(50))
        ));
    }
}
