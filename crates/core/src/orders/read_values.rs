//! Single values of the orders, of whatever key.

use toml::de::{DeTable, DeValue};

use super::action::Action;
use super::keys::Key;
use super::meant;
use super::read::{Reader, Value, leaf};
use super::resolve::{Text, nearest_help};
use crate::visible::is_hidden;

impl<'t> Reader<'t> {
    /// Faults for keys that do not exist.
    pub(super) fn check_keys(&mut self, table: &DeTable<'_>, within: &str, known: &[Key]) {
        for key in table.keys() {
            let name: &str = key.get_ref();
            // Spelled out only for a fault: ten thousand rules have many keys.
            let path =
                || if within.is_empty() { name.to_owned() } else { format!("{within}.{name}") };
            let names = known.iter().map(|key| key.name);
            if names.clone().all(|known| known != name) {
                let all =
                    || format!("Known here: {}.", names.clone().collect::<Vec<_>>().join(", "));
                let help = meant::key(name, known)
                    .unwrap_or_else(|| nearest_help(name, names.clone(), all));
                self.fault(path(), key.span(), format!("unknown key `{name}`"), help);
            }
        }
    }

    pub(super) fn table<'v>(&mut self, key: &str, value: &'v Value<'t>) -> Option<&'v DeTable<'t>> {
        let table = value.get_ref().as_table();
        if table.is_none() {
            self.wrong_type(key, value, "a table");
        }
        table
    }

    pub(super) fn wrong_type(&mut self, key: &str, value: &Value<'_>, wanted: &str) {
        let is = match value.get_ref() {
            DeValue::String(_) => "a string",
            DeValue::Integer(_) | DeValue::Float(_) => "a number",
            DeValue::Boolean(_) => "true or false",
            DeValue::Datetime(_) => "a date",
            DeValue::Array(_) => "a list",
            DeValue::Table(_) => "a table",
        };
        let message = format!("`{}` is {is}, not {wanted}", leaf(key));
        self.fault(key, value.span(), message, format!("Write {wanted}."));
    }

    /// One or more sentences, which may stand in several lines; as one.
    pub(super) fn prose(&mut self, key: &str, value: &Value<'_>) -> Option<String> {
        let written = self.written(key, value, |c| matches!(c, '\n' | '\r' | '\t'))?;
        Some(written.text.split_whitespace().collect::<Vec<_>>().join(" "))
    }

    pub(super) fn string(&mut self, key: &str, value: &Value<'_>) -> Option<Text> {
        self.written(key, value, |_| false)
    }

    pub(super) fn written(
        &mut self,
        key: &str,
        value: &Value<'_>,
        may_be: impl Fn(char) -> bool,
    ) -> Option<Text> {
        match value.get_ref().as_str() {
            Some(text) => {
                if let Some(hidden) = text.chars().find(|c| is_hidden(*c) && !may_be(*c)) {
                    let number = u32::from(hidden);
                    let leaf = leaf(key);
                    let message = format!("`{leaf}` contains a hidden character, U+{number:04X}");
                    self.fault(key, value.span(), message, "Remove it.");
                    return None;
                }
                Some(Text { text: text.to_owned(), span: value.span(), file: self.at })
            }
            None => {
                self.wrong_type(key, value, "a string in double quotes");
                None
            }
        }
    }

    pub(super) fn boolean(&mut self, key: &str, value: &Value<'_>) -> Option<bool> {
        let read = value.get_ref().as_bool();
        if read.is_none() {
            self.wrong_type(key, value, "true or false");
        }
        read
    }

    /// One string or a list of strings; an empty list is a fault.
    pub(super) fn strings(&mut self, key: &str, value: &Value<'_>) -> Vec<Text> {
        match value.get_ref() {
            DeValue::String(_) => self.string(key, value).into_iter().collect(),
            DeValue::Array(list) => {
                if list.is_empty() {
                    self.fault(
                        key,
                        value.span(),
                        format!("`{}` is an empty list, which would match nothing", leaf(key)),
                        "Name something, or remove the key.",
                    );
                }
                list.iter().filter_map(|item| self.string(key, item)).collect()
            }
            _ => {
                self.wrong_type(key, value, "a string or a list of strings");
                Vec::new()
            }
        }
    }

    pub(super) fn action(&mut self, key: &str, value: &Value<'_>) -> Option<Action> {
        let written = self.string(key, value)?;
        match written.text.as_str() {
            "allow" => Some(Action::Allow),
            "deny" => Some(Action::Deny),
            "refuse" => Some(Action::Refuse),
            other => {
                let all = || "Write `allow`, `deny` or `refuse`.".to_owned();
                let help = meant::action(other).unwrap_or_else(|| {
                    nearest_help(other, ["allow", "deny", "refuse"].into_iter(), all)
                });
                self.fault(key, written.span, format!("unknown action `{other}`"), help);
                None
            }
        }
    }

    /// A whole number between two, both included.
    pub(super) fn number(
        &mut self,
        key: &str,
        value: &Value<'_>,
        (least, most): (u32, u32),
    ) -> Option<u32> {
        let Some(written) = value.get_ref().as_integer() else {
            self.wrong_type(key, value, "a whole number");
            return None;
        };
        let read = u32::from_str_radix(written.as_str(), written.radix()).ok();
        let read = read.filter(|number| (least..=most).contains(number));
        if read.is_none() {
            let message = format!("`{}` must be {least} to {most}", leaf(key));
            self.fault(key, value.span(), message, "Write a number between the two.");
        }
        read
    }
}
