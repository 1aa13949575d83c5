//! Drawing, at any size. No state is told by colour alone.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line as Row, Span};
use ratatui::widgets::{Clear, Paragraph, Wrap};
use tipstaff_core::analysis::log::PIECES;
use tipstaff_core::orders::Action;
use tipstaff_core::visible::visible;

use super::state::{Over, Screen};
use crate::acts::decisions::{Line, as_text, said};

/// From here on the tables stand beside the list, not below it.
const WIDE: u16 = 120;
/// Lines of the tables below the list.
const BELOW: u16 = 7;
/// Eighths of a cell, for a sparkline.
const BARS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

fn dim() -> Style {
    Style::new().add_modifier(Modifier::DIM)
}

fn verdict(verdict: Action, colours: bool) -> Style {
    match verdict {
        _ if !colours => Style::new(),
        Action::Allow => Style::new().fg(Color::Green),
        Action::Deny => Style::new().fg(Color::Magenta),
        Action::Refuse => Style::new().fg(Color::Cyan),
    }
}

/// Signs for a terminal that knows nothing but ASCII: one column each.
fn only_ascii(frame: &mut Frame<'_>) {
    for cell in &mut frame.buffer_mut().content {
        let Some(sign) = cell.symbol().chars().next().filter(|sign| !sign.is_ascii()) else {
            continue;
        };
        cell.set_symbol(match sign {
            '–' | '─' => "-",
            '│' => "|",
            '·' | '▂' => ".",
            '▁' => "_",
            '▃' => ":",
            '▄' => "-",
            '▅' => "=",
            '▆' => "+",
            '▇' => "*",
            '█' => "#",
            '↑' => "^",
            '↓' => "v",
            '→' => ">",
            _ => "?",
        });
    }
}

/// Draws everything.
pub fn draw(frame: &mut Frame<'_>, screen: &mut Screen) {
    let [head, body, line, foot] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Min(1),
        Constraint::Length(2),
        Constraint::Length(1),
    ])
    .areas(frame.area());
    header(frame, head, screen);
    let wide = body.width >= WIDE;
    let (list, tables) = match wide {
        true => {
            let [list, _, tables] = Layout::horizontal([
                Constraint::Fill(5),
                Constraint::Length(2),
                Constraint::Fill(3),
            ])
            .areas(body);
            (list, Layout::vertical([Constraint::Fill(1), Constraint::Fill(1)]).areas(tables))
        }
        false => {
            let below = if body.height >= 2 * BELOW { BELOW } else { 0 };
            let [list, tables] =
                Layout::vertical([Constraint::Min(1), Constraint::Length(below)]).areas(body);
            let [one, _, other] = Layout::horizontal([
                Constraint::Fill(1),
                Constraint::Length(2),
                Constraint::Fill(1),
            ])
            .areas(tables);
            (list, [one, other])
        }
    };
    decisions(frame, list, screen);
    let [sources, deciders] = tables;
    turned_away(frame, sources, screen);
    decided_by(frame, deciders, screen);
    detail(frame, line, screen);
    footer(frame, foot, screen);
    over(frame, body, screen);
    if screen.only_ascii {
        only_ascii(frame);
    }
}

fn header(frame: &mut Frame<'_>, area: Rect, screen: &Screen) {
    let mut text = format!("{}   {:.1} decisions/s", visible(&screen.title), screen.recent.rate());
    if screen.recent.missing > 0 {
        text += &format!("   {} missing", screen.recent.missing);
    }
    if let Some(held) = &screen.held {
        text += &format!("   PAUSED, {} more", held.len());
    }
    frame.render_widget(Paragraph::new(text).style(Style::new().bold()), area);
}

/// The time by the administrator's clock.
fn clock(line: &Line) -> String {
    let zoned = line.time.parse::<Timestamp>().map(|time| time.to_zoned(TimeZone::system()));
    zoned.map_or_else(|_| line.time.clone(), |time| time.strftime("%H:%M:%S").to_string())
}

fn heading(text: &str) -> Row<'static> {
    Row::styled(text.to_owned(), Style::new().add_modifier(Modifier::UNDERLINED))
}

fn decisions(frame: &mut Frame<'_>, area: Rect, screen: &mut Screen) {
    screen.room = usize::from(area.height.saturating_sub(1)).max(1);
    let chosen = screen.chosen.unwrap_or(0);
    // The chosen one is on the screen, and the newest on top.
    let first = (chosen + 1).saturating_sub(screen.room);
    let shown: Vec<_> = screen.lines.iter().enumerate().skip(first).take(screen.room).collect();
    let cells: Vec<[String; 4]> = shown.iter().map(|(_, line)| cells(line)).collect();
    // `would refuse`, where anything is rehearsed.
    let answer = if shown.iter().any(|(_, line)| line.rehearsed) { 12 } else { 6 };
    let widths = widths(&cells, usize::from(area.width).saturating_sub(answer));
    let mut head = format!("  {:<8}  {:<answer$}  {:<11}  ", "time", "answer", "traffic");
    for (text, width) in ["from", "to", "program", "by"].iter().zip(widths) {
        if width > 0 {
            head += &format!("{text:<width$}  ");
        }
    }
    let mut rows = vec![heading(head.trim_end())];
    for ((n, line), cells) in shown.iter().zip(&cells) {
        rows.push(row(
            line,
            screen.chosen == Some(*n),
            cells,
            Look { answer, widths, colours: screen.colours },
        ));
    }
    if screen.lines.is_empty() {
        rows.push(Row::styled("  no decisions recorded yet", dim()));
    }
    frame.render_widget(Paragraph::new(rows), area);
}

/// From whom, to whom, by which program, and what decided.
fn cells(line: &Line) -> [String; 4] {
    let program = line.program.as_deref().and_then(|path| path.rsplit('/').next());
    let by = line.rule.as_deref().unwrap_or(match line.by.starts_with("the standing answer") {
        true => "standing answer",
        false => &line.by,
    });
    [&line.source, &line.destination, program.unwrap_or_default(), by]
        .map(|text| visible(text).into_owned())
}

/// How wide they are where there is room for so much in all, beside the answer. What decided matters more than
/// the program, and the program more than the own end, which the traffic tells.
fn widths(cells: &[[String; 4]], width: usize) -> [usize; 4] {
    let mut left = width.saturating_sub(2 + 10 + 2 + 13);
    let mut widths = [0; 4];
    for (n, most) in [(0, 48), (3, 26), (2, 16), (1, 48)] {
        let wanted = cells.iter().map(|row| row[n].chars().count()).max().unwrap_or(0).min(most);
        let least = if n == 1 { wanted } else { 6 };
        let given = wanted.min(left);
        if wanted > 0 && given >= least.min(wanted) {
            widths[n] = given;
            left = left.saturating_sub(given + 2);
        }
    }
    widths
}

/// How rows are drawn.
#[derive(Clone, Copy)]
struct Look {
    /// Of the answer, and of what stands behind the traffic.
    answer: usize,
    widths: [usize; 4],
    colours: bool,
}

/// One decision, as much of it as there is room for.
fn row(line: &Line, chosen: bool, cells: &[String; 4], look: Look) -> Row<'static> {
    let mark = if chosen { "> " } else { "  " };
    let mut spans = vec![
        Span::raw(format!("{mark}{:<8}  ", clock(line))),
        Span::styled(
            format!("{:<1$}  ", said(line.verdict, line.rehearsed), look.answer),
            verdict(line.verdict, look.colours),
        ),
        Span::raw(format!("{:<11}  ", cut(&visible(&line.traffic), 11))),
    ];
    for (n, (cell, width)) in cells.iter().zip(look.widths).enumerate().filter(|(_, (_, w))| *w > 0)
    {
        let style = if n == 3 { dim() } else { Style::new() };
        spans.push(Span::styled(format!("{:<width$}  ", cut(cell, width)), style));
    }
    let style = if chosen { Style::new().add_modifier(Modifier::REVERSED) } else { Style::new() };
    Row::from(spans).style(style)
}

fn turned_away(frame: &mut Frame<'_>, area: Rect, screen: &Screen) {
    if area.height == 0 {
        return;
    }
    let mut rows = vec![heading(" times  turned away")];
    for source in screen.recent.turned_away(usize::from(area.height.saturating_sub(1))) {
        let width = usize::from(area.width).saturating_sub(8);
        rows.push(Row::from(vec![
            Span::raw(format!("{:>6}  ", source.turned_away)),
            Span::raw(cut(&visible(&source.name), width)),
        ]));
    }
    frame.render_widget(Paragraph::new(rows), area);
}

fn decided_by(frame: &mut Frame<'_>, area: Rect, screen: &Screen) {
    if area.height == 0 {
        return;
    }
    // As many of the last minutes as there is room for, beside the name.
    let pieces = usize::from(area.width).saturating_sub(28).clamp(6, PIECES);
    let minutes = pieces / 6;
    let mut rows = vec![heading(&format!("decided by, the last {minutes} min"))];
    let all = screen.recent.deciders(usize::from(area.height.saturating_sub(1)));
    let most = all.iter().flat_map(|(_, decider)| decider.pieces).max().unwrap_or(0).max(1);
    for (by, decider) in all {
        let bars: String = decider.pieces[PIECES - pieces..]
            .iter()
            .map(|count| BARS[usize::try_from((count * 8).div_ceil(most)).unwrap_or(8).min(8)])
            .collect();
        let by = short(by);
        let width = usize::from(area.width).saturating_sub(pieces + 8);
        rows.push(Row::from(vec![
            Span::raw(format!("{:>6} ", decider.total)),
            Span::raw(bars),
            Span::raw(format!(" {}", cut(&visible(by), width))),
        ]));
    }
    frame.render_widget(Paragraph::new(rows), area);
}

/// `rule 3 (plates)` is known by its name, and what speaks for itself without an article.
fn short(by: &str) -> &str {
    let name = by.strip_prefix("rule ").and_then(|rule| rule.split_once('(')?.1.strip_suffix(')'));
    name.or_else(|| by.strip_prefix("the ")).unwrap_or(by)
}

fn cut(text: &str, width: usize) -> String {
    match text.chars().count() > width {
        true => text.chars().take(width.saturating_sub(1)).chain(['…']).collect(),
        false => text.to_owned(),
    }
}

/// The whole of the chosen decision.
fn detail(frame: &mut Frame<'_>, area: Rect, screen: &Screen) {
    let text = match screen.chosen.and_then(|chosen| screen.lines.get(chosen)) {
        Some(line) => visible(&as_text(&line.time, &line.entry())).into_owned(),
        None => String::new(),
    };
    frame.render_widget(Paragraph::new(text).wrap(Wrap { trim: true }), area);
}

fn footer(frame: &mut Frame<'_>, area: Rect, screen: &Screen) {
    let text = match (&screen.over, screen.ended) {
        (Some(Over::Offer { .. }), _) => "y add this rule to the file   n leave it",
        (Some(Over::Text { .. }), _) => "up/down scroll   esc close",
        (None, Some(ended)) => ended,
        (None, None) => "up/down choose   enter why   a allow   space pause   home newest   q end",
    };
    frame.render_widget(Paragraph::new(text).style(dim()), area);
}

fn over(frame: &mut Frame<'_>, area: Rect, screen: &mut Screen) {
    let (title, text) = match &screen.over {
        None => return,
        Some(Over::Text { title, text, .. }) => (*title, text.clone()),
        Some(Over::Offer { words }) => (
            "this would let it in",
            format!(
                "tipstaff {}\n\nIt changes the file alone; `tipstaff post` puts it in force.",
                words.join(" ")
            ),
        ),
    };
    let lines: Vec<Row<'_>> =
        text.lines().map(|line| Row::raw(visible(line).into_owned())).collect();
    let width = area.width.saturating_sub(4).min(110);
    let inner = usize::from(width.saturating_sub(4)).max(1);
    let needed: usize = lines.iter().map(|line| line.width().div_ceil(inner).max(1)).sum();
    let most = area.height.saturating_sub(1).max(3);
    let height = u16::try_from(needed + 3).unwrap_or(u16::MAX).min(most);
    let place = Rect {
        x: area.x + (area.width - width) / 2,
        y: area.y + (area.height.saturating_sub(height)) / 2,
        width,
        height,
    };
    let furthest = u16::try_from(needed + 3).unwrap_or(u16::MAX).saturating_sub(height);
    let scroll = match &mut screen.over {
        Some(Over::Text { scroll, .. }) => {
            *scroll = (*scroll).min(furthest);
            *scroll
        }
        _ => 0,
    };
    let block = ratatui::widgets::Block::bordered().title(format!(" {title} "));
    let block = block.padding(ratatui::widgets::Padding::horizontal(1));
    let paragraph = Paragraph::new(lines).wrap(Wrap { trim: false }).scroll((scroll, 0));
    frame.render_widget(Clear, place);
    frame.render_widget(paragraph.block(block), place);
}
