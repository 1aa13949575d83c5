//! A finished reach check as people read it: text, Markdown, a page.

pub mod fleet_page;
pub mod page;
pub mod text;
