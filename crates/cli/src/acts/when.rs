//! Moments as people write them: how long ago, or when.

use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use jiff::{Span, Timestamp};

use crate::acts::decisions::moment;
use crate::failure::Failure;

/// A moment as lines of the log have it.
pub fn read(text: &str, now: Timestamp) -> Result<String, Failure> {
    let found = text.parse().ok().or_else(|| ago(text, now)).or_else(|| by_the_own_clock(text));
    found.map(moment).ok_or_else(|| Failure::Argument {
        message: format!("`{text}` is no moment"),
        help: "Write how long ago, such as 90s, 1h or 2d, or a moment such as \
               2026-11-29T08:00:00+01:00 or 2026-11-29."
            .into(),
    })
}

/// A moment ahead as orders write it: so long from now, or what is a moment already.
pub fn ahead(text: &str) -> Result<String, Failure> {
    let Ok(span) = text.parse::<Span>() else { return Ok(text.to_owned()) };
    let now = jiff::Zoned::now();
    let then = now.checked_add(span.abs()).map_err(|e| Failure::Argument {
        message: format!("`{text}` from now is no moment: {e}"),
        help: "Write how long from now, such as 2h or 3d, or a moment such as \
               2026-12-24T18:00:00+01:00."
            .into(),
    })?;
    Ok(then.strftime("%Y-%m-%dT%H:%M:%S%:z").to_string())
}

fn ago(text: &str, now: Timestamp) -> Option<Timestamp> {
    let span: Span = text.parse().ok()?;
    now.to_zoned(TimeZone::UTC).checked_sub(span.abs()).ok().map(|zoned| zoned.timestamp())
}

fn by_the_own_clock(text: &str) -> Option<Timestamp> {
    let civil: DateTime = text.parse().ok()?;
    TimeZone::system().to_timestamp(civil).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_are_written_in_many_ways() {
        let now: Timestamp = "2026-11-29T12:00:00Z".parse().unwrap();
        let told = |text: &str| read(text, now).ok();
        assert_eq!(told("1h").unwrap(), "2026-11-29T11:00:00.000000Z");
        assert_eq!(told("2d 30m").unwrap(), "2026-11-27T11:30:00.000000Z");
        assert_eq!(told("2026-11-29T08:00:00+01:00").unwrap(), "2026-11-29T07:00:00.000000Z");
        assert!(told("2026-11-29").is_some() && told("2026-11-29T08:00").is_some());
        assert_eq!(told("yesterday"), None);
    }
}
