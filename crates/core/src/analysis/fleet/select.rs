//! Which hosts of the orders are meant.

use crate::orders::{Host, Orders, Selector};

/// A selector that selects nobody.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{selector}` selects no host of the orders")]
pub struct UnknownSelector {
    /// As it was written.
    pub selector: String,
    /// What would select somebody: names, then tags.
    pub known: Vec<String>,
}

/// The hosts that any of these selectors selects, each once, in the order of the orders;
/// all of them where there is no selector.
///
/// # Errors
/// [`UnknownSelector`]: the first that selects nobody.
pub fn select<'o>(
    orders: &'o Orders,
    selectors: &[Selector],
) -> Result<Vec<&'o Host>, UnknownSelector> {
    let unknown = selectors.iter().find(|selector| {
        **selector != Selector::All && !orders.hosts.iter().any(|host| selector.selects(host))
    });
    if let Some(selector) = unknown {
        let names = orders.hosts.iter().map(|host| host.name.clone());
        let mut tags: Vec<String> =
            orders.hosts.iter().flat_map(|host| &host.tags).map(|tag| format!("#{tag}")).collect();
        tags.sort_unstable();
        tags.dedup();
        let known = names.chain(tags).collect();
        return Err(UnknownSelector { selector: selector.to_string(), known });
    }
    let wanted = |host: &&Host| selectors.is_empty() || selectors.iter().any(|s| s.selects(host));
    Ok(orders.hosts.iter().filter(wanted).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::orders::read;

    #[test]
    fn selectors_select_each_host_once_and_in_order() {
        let orders = read(
            "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n\
             [[hosts]]\nname = \"dome-1\"\ntags = [\"telescope\"]\n\
             [[hosts]]\nname = \"archive\"\nssh = \"admin@198.51.100.20\"\n\
             [[hosts]]\nname = \"mast\"\ntags = [\"telescope\", \"sensors\"]\n",
        )
        .unwrap();
        let names = |selectors: &[&str]| {
            let selectors: Vec<Selector> =
                selectors.iter().map(|s| Selector::from((*s).to_owned())).collect();
            let found = select(&orders, &selectors)?;
            Ok::<_, UnknownSelector>(
                found.into_iter().map(|host| host.name.as_str()).collect::<Vec<_>>(),
            )
        };
        assert_eq!(names(&[]).unwrap(), ["dome-1", "archive", "mast"]);
        assert_eq!(names(&["mast", "#telescope", "dome-1"]).unwrap(), ["dome-1", "mast"]);
        assert_eq!(names(&["*"]).unwrap().len(), 3);
        let fault = names(&["mast", "#desks"]).unwrap_err();
        assert_eq!(fault.selector, "#desks");
        assert_eq!(fault.known, ["dome-1", "archive", "mast", "#sensors", "#telescope"]);
        assert_eq!(orders.hosts[1].ssh_name(), "admin@198.51.100.20");
        assert_eq!(orders.hosts[2].ssh_name(), "mast");
    }
}
