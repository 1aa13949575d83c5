//! The ways in which people write traffic, all read as one.
//!
//! `443`, `tcp/80,443`, `443/tcp`, `tcp:443`, `TCP/443`, `30000-32000`, `http,https`: the
//! form that is printed and documented is `tcp/443`. A number alone is a port of TCP, or
//! of the protocol before it in the same list. Nothing is guessed beyond that.

/// The items of a text, each in the form that [`Term::parse`](super::traffic::Term::parse)
/// reads; names of services stay as they are.
pub fn items(text: &str) -> Vec<String> {
    let mut protocol = "tcp".to_owned();
    let mut items = Vec::new();
    for item in text.split(',').map(str::trim) {
        let (before, after) = match item.split_once(['/', ':', ' ']) {
            Some((before, after)) => (before.trim(), after.trim()),
            None if is_port(item) => {
                items.push(format!("{protocol}/{item}"));
                continue;
            }
            None => {
                items.push(item.to_owned());
                "tcp".clone_into(&mut protocol);
                continue;
            }
        };
        let turned = is_port(before) && !is_port(after);
        let (kind, rest) = if turned { (after, before) } else { (before, after) };
        let kind = kind.to_ascii_lowercase();
        if !matches!(kind.as_str(), "tcp" | "udp" | "icmp" | "protocol") {
            // Neither form: as it is, for a fault that shows it.
            items.push(item.to_owned());
            continue;
        }
        items.push(format!("{kind}/{}", rest.to_ascii_lowercase()));
        protocol = if kind == "udp" { kind } else { "tcp".to_owned() };
    }
    items
}

/// A port or a range of them.
fn is_port(text: &str) -> bool {
    fn is_number(t: &str) -> bool {
        !t.is_empty() && t.bytes().all(|b| b.is_ascii_digit())
    }
    match text.split_once('-') {
        Some((first, last)) => is_number(first.trim()) && is_number(last.trim()),
        None => is_number(text),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_spelling_is_read_as_one() {
        for (written, read) in [
            ("443", "tcp/443"),
            ("80,443", "tcp/80 tcp/443"),
            ("tcp/80, 443", "tcp/80 tcp/443"),
            ("udp/53,5353", "udp/53 udp/5353"),
            ("udp/53,http,8080", "udp/53 http tcp/8080"),
            ("443/tcp", "tcp/443"),
            ("53/UDP", "udp/53"),
            ("tcp:443", "tcp/443"),
            ("TCP 443", "tcp/443"),
            ("30000-32000", "tcp/30000-32000"),
            ("30000-32000/udp", "udp/30000-32000"),
            ("http,https", "http https"),
            ("icmp/Echo", "icmp/echo"),
            ("protocol/47", "protocol/47"),
            ("any", "any"),
        ] {
            assert_eq!(items(written).join(" "), read, "{written}");
        }
    }

    #[test]
    fn what_is_no_spelling_stays_as_it_is() {
        for text in ["ssh", "web/443", "443/ssh", "tcp", "", "http/"] {
            assert_eq!(items(text), [text], "{text}");
        }
    }
}
