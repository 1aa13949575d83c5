//! The built-in catalogue of service names. Names and ports follow the IANA
//! Service Name and Transport Protocol Port Number Registry (RFC 6335);
//! `[services]` in the orders adds to it or overrides it.

use Transport::{Tcp, Udp};

use super::traffic::{Term, Transport};

/// One service: its name and what it stands for.
#[derive(Debug, Clone, Copy)]
pub struct Service {
    /// The registry's name.
    pub name: &'static str,
    /// What a rule that names it is about.
    pub terms: &'static [Term],
}

const fn on(t: Transport, port: u16) -> Term {
    Term::Ports(t, port, port)
}

macro_rules! catalogue {
    ($($name:literal => [$($term:expr),+];)*) => {
        &[$(Service { name: $name, terms: &[$($term),+] }),*]
    };
}

/// The catalogue, sorted by name.
pub const CATALOGUE: &[Service] = catalogue! {
    "amqp" => [on(Tcp, 5672)];
    "amqps" => [on(Tcp, 5671)];
    "bgp" => [on(Tcp, 179)];
    "domain" => [on(Tcp, 53), on(Udp, 53)];
    "domain-s" => [on(Tcp, 853), on(Udp, 853)];
    "finger" => [on(Tcp, 79)];
    "ftp" => [on(Tcp, 21)];
    "git" => [on(Tcp, 9418)];
    "gre" => [Term::Protocol(47)];
    "http" => [on(Tcp, 80)];
    "http-alt" => [on(Tcp, 8080)];
    // HTTP/3 (RFC 9114) has the port too, by UDP: whoever wants it says so.
    "http3" => [on(Udp, 443)];
    "https" => [on(Tcp, 443)];
    "imap" => [on(Tcp, 143)];
    "imaps" => [on(Tcp, 993)];
    "ipp" => [on(Tcp, 631)];
    "isakmp" => [on(Udp, 500), on(Udp, 4500)];
    "kerberos" => [on(Tcp, 88), on(Udp, 88)];
    "ldap" => [on(Tcp, 389)];
    "ldaps" => [on(Tcp, 636)];
    "mdns" => [on(Udp, 5353)];
    "memcache" => [on(Tcp, 11211)];
    "mongodb" => [on(Tcp, 27017)];
    "mqtt" => [on(Tcp, 1883)];
    "ms-wbt-server" => [on(Tcp, 3389), on(Udp, 3389)];
    "mysql" => [on(Tcp, 3306)];
    "nfs" => [on(Tcp, 2049)];
    "ntp" => [on(Udp, 123)];
    "openvpn" => [on(Tcp, 1194), on(Udp, 1194)];
    "ping" => [Term::Echo];
    "pop3" => [on(Tcp, 110)];
    "pop3s" => [on(Tcp, 995)];
    "postgresql" => [on(Tcp, 5432)];
    "radius" => [on(Udp, 1812), on(Udp, 1813)];
    "redis" => [on(Tcp, 6379)];
    "rfb" => [on(Tcp, 5900)];
    "rsync" => [on(Tcp, 873)];
    "rtsp" => [on(Tcp, 554)];
    "secure-mqtt" => [on(Tcp, 8883)];
    "sip" => [on(Tcp, 5060), on(Udp, 5060)];
    "smb" => [on(Tcp, 445)];
    "smtp" => [on(Tcp, 25)];
    "snmp" => [on(Udp, 161)];
    "ssh" => [on(Tcp, 22)];
    "submission" => [on(Tcp, 587)];
    "submissions" => [on(Tcp, 465)];
    "sunrpc" => [on(Tcp, 111), on(Udp, 111)];
    "syslog" => [on(Udp, 514)];
    "syslog-tls" => [on(Tcp, 6514)];
    "telnet" => [on(Tcp, 23)];
    "tftp" => [on(Udp, 69)];
};

/// What the trade calls some of them, and the registry's name.
pub const ALSO: &[(&str, &str)] = &[
    ("cups", "ipp"),
    ("dns", "domain"),
    ("dns-over-tls", "domain-s"),
    ("ike", "isakmp"),
    ("mariadb", "mysql"),
    ("portmapper", "sunrpc"),
    ("postgres", "postgresql"),
    ("rdp", "ms-wbt-server"),
    ("rpcbind", "sunrpc"),
    ("samba", "smb"),
    ("vnc", "rfb"),
];

/// Words that are no service, and what to write instead.
const MEANT: &[(&str, &str)] = &[
    ("all", "Write `any`."),
    ("dhcp", "Address assignment passes before any rule; see [foundations]."),
    ("dhcpv6", "Address assignment passes before any rule; see [foundations]."),
    ("everything", "Write `any`."),
    ("icmp", "Write `icmp/echo` for echo requests, or `icmp/*` for all of ICMP."),
    ("mail", "Write the protocols of mail that are meant: `smtp`, `submission`, `imaps`."),
    ("nat", "This host's own ports are meant here; nothing is translated."),
    ("quic", "Write `http3`, or `udp/443`."),
    ("tcp", "Write `tcp/*` for all of TCP."),
    ("udp", "Write `udp/*` for all of UDP."),
    ("vpn", "Write the port that it listens on, such as `udp/51820` or `isakmp`."),
    ("web", "Write `http`, `https`."),
    ("wireguard", "Write the port of its configuration, usually `udp/51820`."),
];

/// Finds a service of the catalogue by its name, or by what the trade calls it.
pub fn find(name: &str) -> Option<&'static Service> {
    let known = ALSO.iter().find(|(word, _)| *word == name).map_or(name, |(_, known)| *known);
    CATALOGUE.binary_search_by(|s| s.name.cmp(known)).ok().map(|at| &CATALOGUE[at])
}

/// All names that [`find`] knows.
pub fn all_names() -> impl Iterator<Item = &'static str> {
    CATALOGUE.iter().map(|service| service.name).chain(ALSO.iter().map(|(word, _)| *word))
}

/// What to write instead of a word that is no service, by what it means.
pub fn meant(word: &str) -> Option<&'static str> {
    let word = word.to_ascii_lowercase();
    MEANT.iter().find(|(known, _)| *known == word).map(|(_, help)| *help)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_catalogue_is_sorted_and_found() {
        assert!(CATALOGUE.windows(2).all(|w| w[0].name < w[1].name));
        for service in CATALOGUE {
            assert_eq!(find(service.name).unwrap().terms, service.terms);
        }
        assert!(find("shs").is_none());
        for (word, name) in ALSO {
            assert_eq!(find(word).map(|service| service.name), Some(*name));
            assert!(CATALOGUE.iter().all(|service| service.name != *word), "{word}");
        }
        let sorted = |table: &[(&str, &str)]| table.windows(2).all(|w| w[0].0 < w[1].0);
        assert!(
            sorted(ALSO) && sorted(MEANT) && MEANT.iter().all(|(word, _)| find(word).is_none())
        );
    }
}
