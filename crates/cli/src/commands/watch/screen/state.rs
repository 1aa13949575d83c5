//! What is on the screen, and what keys change.

use std::collections::VecDeque;

use jiff::Timestamp;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use tipstaff_core::analysis::log::{LogFilter, Recent};

use crate::acts::decisions::{Line, Told};

/// So many decisions can be scrolled through.
const KEPT: usize = 10_000;

/// What a key asks for.
pub enum Asked {
    Nothing,
    End,
    /// Why this was decided.
    Why(Box<Line>),
    /// The rule that would let it in.
    Allow(Box<Line>),
    /// To add the rule that was offered.
    Add(Vec<String>),
}

/// A text over everything else.
pub enum Over {
    Text {
        title: &'static str,
        text: String,
        scroll: u16,
    },
    /// A command that a second key runs.
    Offer {
        words: Vec<String>,
    },
}

/// All that is shown.
pub struct Screen {
    pub title: String,
    /// Whether the terminal knows nothing else.
    pub only_ascii: bool,
    pub lines: VecDeque<Line>,
    pub recent: Recent,
    pub over: Option<Over>,
    /// The line that is chosen, from the newest; `None`: the newest is followed.
    pub chosen: Option<usize>,
    /// What came while it was paused.
    pub held: Option<Vec<Line>>,
    /// Said at the foot.
    pub ended: Option<&'static str>,
    /// Lines of the list that there was room for.
    pub room: usize,
    /// Whether colour may help (<https://no-color.org>).
    pub colours: bool,
}

fn now() -> u64 {
    u64::try_from(Timestamp::now().as_second()).unwrap_or_default()
}

impl Screen {
    pub fn new(title: String, only_ascii: bool) -> Self {
        Self {
            title,
            only_ascii,
            lines: VecDeque::new(),
            recent: Recent::new(now()),
            over: None,
            chosen: None,
            held: None,
            ended: None,
            room: 1,
            colours: std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty()),
        }
    }

    pub fn move_on(&mut self) {
        self.recent.move_on(now());
    }

    /// A decision, where it is meant.
    pub fn add(&mut self, told: Told, filter: &LogFilter) {
        match told {
            Told::Gap(gap) => self.recent.missing += gap.not_sampled + gap.lost + gap.not_written,
            Told::Line(line) if filter.shows(&line.entry()) => {
                let at = line.time.parse::<Timestamp>().map(Timestamp::as_second);
                let at = at.ok().and_then(|at| u64::try_from(at).ok());
                self.recent.add(&line.entry(), at.unwrap_or_else(now));
                match &mut self.held {
                    Some(held) if held.len() < KEPT => held.push(line),
                    Some(_) => self.recent.missing += 1,
                    None => self.push(line),
                }
            }
            Told::Line(_) => {}
        }
    }

    fn push(&mut self, line: Line) {
        self.lines.push_front(line);
        self.lines.truncate(KEPT);
        // The line that somebody looks at stays where it is.
        if let Some(chosen) = &mut self.chosen {
            *chosen = (*chosen + 1).min(self.lines.len() - 1);
        }
    }

    pub fn end(&mut self, why: &'static str) {
        self.ended = Some(why);
    }

    pub fn show_text(&mut self, title: &'static str, text: String) {
        self.over = Some(Over::Text { title, text, scroll: 0 });
    }

    pub fn offer(&mut self, words: Option<Vec<String>>) {
        self.over = Some(match words {
            Some(words) => Over::Offer { words },
            None => Over::Text {
                title: "no rule",
                text: "What a foundation decides no rule can change: tipstaff rules --all".into(),
                scroll: 0,
            },
        });
    }

    /// The line that is chosen, or the newest.
    fn line(&self) -> Option<Box<Line>> {
        self.lines.get(self.chosen.unwrap_or(0)).cloned().map(Box::new)
    }

    pub fn key(&mut self, key: KeyEvent) -> Asked {
        let control = key.modifiers.contains(KeyModifiers::CONTROL);
        if control && key.code == KeyCode::Char('c') {
            return Asked::End;
        }
        if self.over.is_some() {
            return self.key_over(key.code);
        }
        match key.code {
            KeyCode::Char('q') => return Asked::End,
            KeyCode::Esc if self.chosen.is_none() => return Asked::End,
            KeyCode::Esc => self.chosen = None,
            KeyCode::Char(' ') => self.pause(),
            KeyCode::Down => self.choose(1),
            KeyCode::Up => self.choose(-1),
            KeyCode::PageDown => self.choose(isize::try_from(self.room).unwrap_or(1)),
            KeyCode::PageUp => self.choose(-isize::try_from(self.room).unwrap_or(1)),
            KeyCode::Home => self.chosen = None,
            KeyCode::End => self.chosen = self.lines.len().checked_sub(1),
            KeyCode::Enter => return self.line().map_or(Asked::Nothing, Asked::Why),
            KeyCode::Char('a') => return self.line().map_or(Asked::Nothing, Asked::Allow),
            _ => {}
        }
        Asked::Nothing
    }

    fn key_over(&mut self, key: KeyCode) -> Asked {
        match (&mut self.over, key) {
            (Some(Over::Text { scroll, .. }), KeyCode::Down) => *scroll = scroll.saturating_add(1),
            (Some(Over::Text { scroll, .. }), KeyCode::Up) => *scroll = scroll.saturating_sub(1),
            (Some(Over::Offer { words }), KeyCode::Char('y')) => {
                return Asked::Add(std::mem::take(words));
            }
            (_, KeyCode::Esc | KeyCode::Char('q' | 'n') | KeyCode::Enter) => self.over = None,
            _ => {}
        }
        Asked::Nothing
    }

    fn choose(&mut self, by: isize) {
        let last = self.lines.len().saturating_sub(1);
        self.chosen = match self.chosen {
            None if by > 0 => Some(0),
            None => None,
            // Above the newest it is followed again.
            Some(0) if by < 0 => None,
            Some(chosen) => Some(chosen.saturating_add_signed(by).min(last)),
        };
    }

    fn pause(&mut self) {
        self.held = match self.held.take() {
            None => Some(Vec::new()),
            Some(held) => {
                held.into_iter().for_each(|line| self.push(line));
                None
            }
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::acts::decisions::example;

    fn told(port: u16) -> Told {
        Told::Line(Line { traffic: format!("tcp/{port}"), ..example() })
    }

    fn press(screen: &mut Screen, key: KeyCode) -> Asked {
        screen.key(KeyEvent::new(key, KeyModifiers::NONE))
    }

    #[test]
    fn the_chosen_line_stays_and_a_pause_loses_nothing() {
        let (mut screen, filter) = (Screen::new("archive".into(), false), LogFilter::default());
        (1..=3).for_each(|port| screen.add(told(port), &filter));
        press(&mut screen, KeyCode::Down);
        press(&mut screen, KeyCode::Down);
        assert_eq!(screen.line().unwrap().traffic, "tcp/2");
        screen.add(told(4), &filter);
        assert_eq!(screen.line().unwrap().traffic, "tcp/2");
        press(&mut screen, KeyCode::Char(' '));
        screen.add(told(5), &filter);
        assert_eq!((screen.lines.len(), screen.line().unwrap().traffic), (4, "tcp/2".into()));
        press(&mut screen, KeyCode::Char(' '));
        assert_eq!((screen.lines.len(), screen.line().unwrap().traffic), (5, "tcp/2".into()));
        press(&mut screen, KeyCode::Home);
        assert_eq!(screen.line().unwrap().traffic, "tcp/5");
        press(&mut screen, KeyCode::End);
        press(&mut screen, KeyCode::PageDown);
        assert_eq!(screen.line().unwrap().traffic, "tcp/1");
        assert!(
            matches!(press(&mut screen, KeyCode::Enter), Asked::Why(line) if line.traffic == "tcp/1")
        );
    }

    #[test]
    fn a_rule_is_added_on_the_second_key_alone() {
        let mut screen = Screen::new("archive".into(), false);
        assert!(matches!(press(&mut screen, KeyCode::Char('a')), Asked::Nothing));
        screen.add(told(1), &LogFilter::default());
        assert!(matches!(press(&mut screen, KeyCode::Char('a')), Asked::Allow(_)));
        let words = vec!["rule".to_owned()];
        screen.offer(Some(words.clone()));
        assert!(matches!(press(&mut screen, KeyCode::Char('x')), Asked::Nothing));
        assert!(
            matches!(press(&mut screen, KeyCode::Char('y')), Asked::Add(told) if told == words)
        );
        screen.offer(Some(words));
        press(&mut screen, KeyCode::Esc);
        assert!(screen.over.is_none());
        assert!(matches!(press(&mut screen, KeyCode::Char('q')), Asked::End));
    }
}
