//! What random worlds are made of: orders, and what listens.

use std::net::SocketAddr;

use tipstaff_core::names::traffic::Transport;

use crate::common::{ARCHIVE, Lab, PARTNER, STRANGER};
use tipstaff_testing::ip;

pub const PORTS: [u16; 4] = [7401, 7402, 7403, 7404];
pub const SOURCES: [[&str; 2]; 2] = [PARTNER, STRANGER];

/// Numbers that are the same each time (Marsaglia's xorshift).
pub struct Dice(pub u64);

impl Dice {
    pub fn roll(&mut self, sides: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) as usize % sides
    }

    pub fn pick<'p, T: ?Sized>(&mut self, all: &[&'p T]) -> &'p T {
        all[self.roll(all.len())]
    }
}

/// The programs that rules name: who listens in these worlds, a link to it,
/// and one that is not there.
pub fn programs(lab: &Lab) -> [String; 3] {
    let own = std::env::current_exe().unwrap();
    let link = lab.path().join("listener");
    if !link.exists() {
        std::os::unix::fs::symlink(&own, &link).unwrap();
    }
    [own, link, lab.path().join("elsewhere")].map(|path| path.display().to_string())
}

pub fn orders(dice: &mut Dice, programs: &[String; 3], near: &str) -> String {
    let answers = ["deny", "deny", "refuse", "allow"];
    let outbound = dice.pick(&["allow", "allow", "deny"]);
    let mut text = format!(
        "version = 1\n[standing]\ninbound = \"{}\"\noutbound = \"{outbound}\"\ntransit = \"deny\"\n\
         [[hosts]]\nname = \"archive\"\naddresses = [\"{}\", \"{}\"]\n\
         [[hosts]]\nname = \"desk-3\"\n\
         [addresses]\npartner = [\"203.0.113.0/24\", \"2001:db8:113::/48\"]\n",
        dice.pick(&answers),
        ARCHIVE[0],
        ARCHIVE[1],
    );
    for nth in 0..dice.roll(7) {
        let action = dice.pick(&["allow", "allow", "deny", "refuse"]);
        let port = PORTS[dice.roll(PORTS.len())];
        let traffic = match dice.roll(10) {
            0 => format!("\"udp/{port}\""),
            1 => format!("[\"tcp/{port}\", \"udp/{port}\"]"),
            2 => "[\"tcp/7402-7404\", \"icmp/echo\"]".to_owned(),
            3 => "\"any\"".to_owned(),
            4 => "[\"tcp/7401\", \"tcp/7402\"]".to_owned(),
            5 => "[\"tcp/7401\", \"udp/7403\", \"tcp/7404\"]".to_owned(),
            6 => format!("\"any\"\ntraffic_except = [\"tcp/{port}\", \"icmp/echo\"]"),
            7 => format!("\"tcp/7401-7404\"\ntraffic_except = \"tcp/{port}\""),
            _ => format!("\"tcp/{port}\""),
        };
        text.push_str(&format!(
            "[[rules]]\nname = \"rule-{nth}\"\naction = \"{action}\"\ntraffic = {traffic}\n"
        ));
        if !traffic.contains("any") && !traffic.contains("icmp") && dice.roll(4) == 0 {
            let program = &programs[dice.roll(3)];
            text.push_str(&format!("program = \"{program}\"\n"));
        }
        let source = dice.pick(&[
            "",
            "",
            "source = \"partner\"\n",
            "source = [\"203.0.113.8-203.0.113.9\", \"2001:db8:66::66\"]\n",
            "source = \"192.0.2.66\"\n",
            "source = \"2001:db8::/33\"\n",
        ]);
        let further = [
            "",
            "",
            &format!("interface = \"{near}\"\n"),
            "interface = \"lan9\"\n",
            "family = \"ipv6\"\n",
            "destination = \"198.51.100.20\"\n",
        ];
        // One family only goes with no other one.
        let both = source.is_empty() || source.contains("partner") || source.contains('[');
        text.push_str(source);
        text.push_str(dice.pick(&further[..if both { 6 } else { 4 }]));
    }
    // What other directions say must change nothing of what comes in.
    for nth in 0..dice.roll(4) {
        text.push_str(&outbound_rule(dice, nth));
    }
    if dice.roll(4) == 0 {
        text.push_str(
            "[[rules]]\nname = \"transit\"\naction = \"allow\"\ndirection = \"transit\"\n\
             traffic = \"any\"\ntraffic_except = \"tcp/25\"\n",
        );
    }
    text
}

fn outbound_rule(dice: &mut Dice, nth: usize) -> String {
    let action = dice.pick(&["allow", "deny", "refuse"]);
    let traffic = dice.pick(&[
        "\"tcp/7401\"",
        "[\"tcp/7401\", \"tcp/7402\"]",
        "\"any\"\ntraffic_except = \"tcp/7402\"",
        "\"any\"\ntraffic_except = \"tcp/25\"",
    ]);
    let to = dice.pick(&[
        "",
        "",
        "destination = \"partner\"\n",
        "destination = [\"192.0.2.66\", \"2001:db8:66::/48\"]\n",
        "family = \"ipv6\"\n",
    ]);
    format!(
        "[[rules]]\nname = \"out-{nth}\"\naction = \"{action}\"\ndirection = \"outbound\"\n\
         traffic = {traffic}\n{to}"
    )
}

/// What a program does with who connects.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Manner {
    /// The kernel accepts for it, as long as there is room.
    Waits,
    /// It accepts and resets.
    Resets,
    /// It accepts nothing, and its queue is full.
    IsFull,
    /// As [`Self::Waits`], by MPTCP.
    Multipath,
}

/// A socket: where, whether it hears IPv6 alone, and how it treats connections.
pub type Wanted = (Transport, SocketAddr, bool, Manner);

/// Where something listens on each port.
pub fn listeners(dice: &mut Dice) -> Vec<Wanted> {
    let mut all = Vec::new();
    for port in PORTS {
        for transport in [Transport::Tcp, Transport::Udp] {
            let address = match dice.roll(8) {
                0 => "0.0.0.0",
                1 | 2 => "::",
                3 => ARCHIVE[0],
                4 => ARCHIVE[1],
                5 => dice.pick(&["127.0.0.1", "::1"]),
                _ => continue,
            };
            let only_six = address.contains(':') && dice.roll(3) == 0;
            let manner = match (transport, dice.roll(7)) {
                (Transport::Tcp, 0) => Manner::Resets,
                (Transport::Tcp, 1) => Manner::IsFull,
                (Transport::Tcp, 2) => Manner::Multipath,
                _ => Manner::Waits,
            };
            all.push((transport, SocketAddr::new(ip(address), port), only_six, manner));
            // A second one, for one address, beside that for all.
            if address == "0.0.0.0" && dice.roll(2) == 0 {
                let to = SocketAddr::new(ip(ARCHIVE[0]), port);
                all.push((transport, to, false, Manner::Waits));
            }
        }
    }
    all
}
