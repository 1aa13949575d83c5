//! Long lists of addresses in files of their own: `file:blocklist.txt`, one
//! address, prefix or range a line, and `area:NL` from a self-published
//! geolocation feed (RFC 8805). Core reads no files: their texts are passed in.

use std::collections::BTreeMap;

use crate::names::address::AddressRange;

/// What stands before the name of a file.
pub(super) const FILE: &str = "file:";
/// What stands before a country or region code.
pub(super) const AREA: &str = "area:";

/// The texts of files by their names as orders write them, or why one cannot be read.
pub type Lists = BTreeMap<String, Result<String, String>>;

/// Reads a list: `#` begins a comment, empty lines are nothing.
///
/// # Errors
/// The first line that is no address, with its number and what is wrong.
pub(super) fn addresses_of_list(text: &str) -> Result<Vec<AddressRange>, String> {
    let mut ranges = Vec::new();
    for (number, line) in text.lines().enumerate() {
        let line = line.split('#').next().unwrap_or_default().trim();
        if !line.is_empty() {
            let range = AddressRange::parse(line);
            ranges.push(range.map_err(|fault| format!("line {}: `{line}`: {fault}", number + 1))?);
        }
    }
    Ok(ranges)
}

/// Reads a geolocation feed: prefixes by country (`NL`) and by region
/// (`NL-NH`). As RFC 8805 section 2.1.3 asks, lines that are no entries are
/// passed over.
pub fn areas_of_feed(text: &str) -> BTreeMap<String, Vec<AddressRange>> {
    let mut areas: BTreeMap<String, Vec<AddressRange>> = BTreeMap::new();
    for line in text.lines().filter(|line| !line.trim_start().starts_with('#')) {
        let mut fields = line.split(',').map(str::trim);
        let range = fields.next().and_then(|prefix| AddressRange::parse(prefix).ok());
        let Some(range) = range else { continue };
        for code in fields.take(2).filter(|code| !code.is_empty()) {
            areas.entry(code.to_ascii_uppercase()).or_default().push(range);
        }
    }
    areas
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::orders::{Attachments, Documents, lists_named, read_all};

    const HEAD: &str =
        "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n";

    fn orders(rest: &str) -> String {
        format!(
            "{HEAD}[areas]\nfeed = \"feed.csv\"\n[addresses]\nunwanted = [\"file:unwanted.txt\", \
             \"203.0.113.7\"]\n{rest}"
        )
    }

    fn with(
        text: &str,
        lists: Option<Lists>,
    ) -> Result<crate::orders::Orders, crate::orders::Faults> {
        let attachments = Attachments { lists, ..Attachments::default() };
        read_all(Documents { text, attachments: &attachments })
    }

    fn lists() -> Lists {
        let unwanted = "# sent too much\n192.0.2.0/25  # all of \
                        it\n\n2001:db8:66::/48\n192.0.2.200-192.0.2.210\n";
        let feed = "# \
                    prefix,country,region,city,postal\n203.0.113.0/24,NL,NL-NH,Amsterdam,\n2001:db8:113::/48,nl,,,\nnonsense\n192.0.2.0/24,CH,,,\n";
        [("unwanted.txt", unwanted), ("feed.csv", feed)]
            .map(|(name, text)| (name.to_owned(), Ok(text.to_owned())))
            .into()
    }

    const RULES: &str = "[[rules]]\nname = \"no\"\naction = \"deny\"\ntraffic = \"any\"\nsource \
                         = [\"unwanted\", \"area:nl\"]\nsource_except = \"area:NL-NH\"\n";

    #[test]
    fn files_and_areas_are_addresses_like_others() {
        let text = orders(RULES);
        assert_eq!(lists_named(&text), ["feed.csv", "unwanted.txt"]);
        let orders = with(&text, Some(lists())).unwrap();
        let set = orders.rules[0].source.addresses.as_ref().unwrap();
        for (address, held) in [
            ("192.0.2.9", true),
            ("192.0.2.205", true),
            ("192.0.2.150", false),
            ("2001:db8:66::1", true),
            ("2001:db8:113::9", true),
            ("203.0.113.9", false),
        ] {
            assert_eq!(set.contains(address.parse().unwrap()), held, "{address}");
        }
        // An edit does not look into the files, and is not kept from its work by that.
        assert!(with(&text, None).is_ok());
    }

    #[test]
    fn what_is_wrong_with_a_file_is_told_where_it_is_named() {
        let mut lists = lists();
        lists.insert("unwanted.txt".into(), Ok("192.0.2.1\n192.0.2.300\n".into()));
        lists.insert("gone.txt".into(), Err("No such file".into()));
        let more = "[[rules]]\nname = \"x\"\naction = \"deny\"\ntraffic = \"any\"\nsource = \
                    [\"file:gone.txt\", \"area:XX\"]\n";
        let faults = with(&orders(more), Some(lists.clone())).unwrap_err().to_string();
        insta::assert_snapshot!(faults, @r"
        9:13: addresses.unwanted: unwanted.txt, line 2: `192.0.2.300`: not an address, a prefix or a first-last range. Correct the file.
        14:11: rules[1] (x).source: gone.txt cannot be read: No such file. Name a file in the directory of the orders or below it, or give its absolute path.
        14:28: rules[1] (x).source: the feed has no area `XX`. Write a country such as `NL`, or a region such as `NL-NH`.
        ");
        let without =
            "[[rules]]\nname = \"x\"\naction = \"deny\"\ntraffic = \"any\"\nsource = \"area:NL\"\n";
        let faults = with(&format!("{HEAD}{without}"), Some(lists)).unwrap_err();
        assert_eq!(
            faults.0[0].help,
            "Name one: [areas] feed = \"feed.csv\", a file in the format of RFC 8805."
        );
    }

    #[test]
    fn a_long_list_is_read_in_no_time() {
        let text: String = (0..200_000u32)
            .map(|n| format!("{}\n", std::net::Ipv4Addr::from(0xc000_0000 + n * 3)))
            .collect();
        assert_eq!(addresses_of_list(&text).unwrap().len(), 200_000);
    }
}
