//! What the witness hears of its knocks: answers on their way out, and the
//! marks of those that the gate let in.

use std::net::IpAddr;

use tipstaff_core::bytes::ReadAt;
use tipstaff_core::decision::Speaker;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, TCP, UDP};
use tipstaff_gate::kernel::CounterSlot;

use crate::frames::flow_label;

/// Bytes of the record of a knock that came past the gate; no answer is so short.
pub(super) const PASSED_BYTES: usize = 24;
/// What stands for the verdict where no gate decided.
pub(super) const NO_GATE: u32 = 255;
/// What stands beside the protocol in the record of a knock that leaves again.
pub(super) const CAME_OUT: u8 = 254;

/// Which knock something belongs to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) struct Answered {
    /// The protocol of the knock.
    pub protocol: u8,
    /// The knock's source port or echo identifier.
    pub from: u16,
    /// The port that was knocked on, 0 for an echo.
    pub to: u16,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum What {
    /// It came past the gate; who let it in, where a gate is.
    Passed(Option<Speaker>),
    /// It was seen where it leaves this host again, for whom.
    CameOut(IpAddr),
    SynAck,
    Reset,
    Data,
    Error {
        kind: u8,
        code: u8,
    },
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Caught {
    pub answered: Answered,
    pub what: What,
}

impl Caught {
    /// Reads a record of the ring. Answers begin with their IP header, as the
    /// program copied it. `None`: it belongs to no knock of this tag.
    pub fn read(six: bool, tag: u32, record: &[u8]) -> Option<Self> {
        if record.len() == PASSED_BYTES {
            return Self::passed(six, record);
        }
        let (ip, protocol, error) =
            if six { (40, *record.get(6)?, 1) } else { (20, *record.get(9)?, 3) };
        let ports = |protocol, from: usize, to: usize| {
            Some(Answered { protocol, from: record.u16_be(from)?, to: record.u16_be(to)? })
        };
        let echo = |from: usize| Some(Answered { protocol, from: record.u16_be(from)?, to: 0 });
        let mine = |sequence: usize| Some(record.u16_be(sequence)? == tag as u16);
        let (answered, what) = match protocol {
            TCP => {
                let flags = *record.get(ip + 13)?;
                let what = match flags & 0x16 {
                    0x12 => What::SynAck,
                    f if f & 0x04 != 0 => What::Reset,
                    _ => return None,
                };
                // Real connections of the same address acknowledge something else.
                (record.u32_be(ip + 8)? == tag.wrapping_add(1)).then_some(())?;
                (ports(TCP, ip + 2, ip)?, what)
            }
            ICMP | ICMPV6 => {
                let (kind, code) = (*record.get(ip)?, *record.get(ip + 1)?);
                if kind != error {
                    mine(ip + 6)?.then_some(())?;
                    return Some(Self { answered: echo(ip + 4)?, what: What::Data });
                }
                // Inside stands the knock: its ports are the other way round.
                let inner = ip + 8 + ip;
                let about = *record.get(ip + 8 + if six { 6 } else { 9 })?;
                let answered = match about {
                    TCP => {
                        (record.u32_be(inner + 4)? == tag).then_some(())?;
                        ports(TCP, inner, inner + 2)?
                    }
                    UDP => {
                        let own = match six {
                            false => record.u16_be(ip + 8 + 4)? == tag as u16,
                            true => record.u32_be(ip + 8)? & 0x000f_ffff == flow_label(tag),
                        };
                        own.then_some(())?;
                        ports(UDP, inner, inner + 2)?
                    }
                    _ => {
                        mine(inner + 6)?.then_some(())?;
                        echo(inner + 4)?
                    }
                };
                (answered, What::Error { kind, code })
            }
            _ => return None,
        };
        Some(Self { answered, what })
    }

    /// protocol u32 · the first 8 bytes behind the IP header · slot u32 ·
    /// verdict u32 · 4 bytes of nothing. Of one that leaves again: protocol u8 ·
    /// [`CAME_OUT`] · 2 bytes of nothing · its ports, or identifier and number · for
    /// whom it is, 16 bytes.
    fn passed(six: bool, record: &[u8]) -> Option<Self> {
        let protocol = *record.first()?;
        if record.get(1) == Some(&CAME_OUT) {
            let (from, second) = (record.u16_be(4)?, record.u16_be(6)?);
            let to = if matches!(protocol, TCP | UDP) { second } else { 0 };
            let destination = match six {
                false => IpAddr::from(<[u8; 4]>::try_from(record.get(8..12)?).ok()?),
                true => IpAddr::from(<[u8; 16]>::try_from(record.get(8..24)?).ok()?),
            };
            let answered = Answered { protocol, from, to };
            return Some(Self { answered, what: What::CameOut(destination) });
        }
        let answered = match protocol {
            TCP | UDP => Answered { protocol, from: record.u16_be(4)?, to: record.u16_be(6)? },
            _ => Answered { protocol, from: record.u16_be(8)?, to: 0 },
        };
        let (slot, verdict) = (record.u32_ne(12)?, record.u32_ne(16)?);
        let speaker = (verdict != NO_GATE).then(|| CounterSlot(slot).speaker()).flatten();
        Some(Self { answered, what: What::Passed(speaker) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tipstaff_core::brief::RuleIndex;

    const TAG: u32 = 0x0bad_cafe;

    #[test]
    fn caught_answers_find_their_knock() {
        let mut syn_ack = vec![0; 40];
        (syn_ack[0], syn_ack[9]) = (0x45, 6);
        syn_ack[20..24].copy_from_slice(&[0, 22, 0xee, 0x48]);
        syn_ack[28..32].copy_from_slice(&(TAG + 1).to_be_bytes());
        syn_ack[33] = 0x12;
        let answered = Answered { protocol: TCP, from: 61_000, to: 22 };
        let caught = Caught { answered, what: What::SynAck };
        assert_eq!(Caught::read(false, TAG, &syn_ack), Some(caught));
        // An answer to a real connection from the same port.
        assert_eq!(Caught::read(false, TAG + 1, &syn_ack), None);
        syn_ack[33] = 0x14;
        assert_eq!(Caught::read(false, TAG, &syn_ack).unwrap().what, What::Reset);
        for length in (0..34).filter(|length| *length != PASSED_BYTES) {
            assert_eq!(Caught::read(false, TAG, &syn_ack[..length]), None);
        }
        let mut error = vec![0; 96];
        (error[6], error[40], error[41], error[54]) = (58, 1, 4, 17);
        error[48..52].copy_from_slice(&(0x6000_0000 | flow_label(TAG)).to_be_bytes());
        error[88..92].copy_from_slice(&[0xee, 0x48, 0x1c, 0xfc]);
        let caught = Caught::read(true, TAG, &error).unwrap();
        assert_eq!(caught.answered, Answered { protocol: UDP, from: 61_000, to: 7420 });
        assert_eq!(caught.what, What::Error { kind: 1, code: 4 });
        assert_eq!(Caught::read(true, TAG + 1, &error), None);
        // About an echo request: its identifier stands where a checksum is followed by it.
        error[54] = 58;
        error[92..96].copy_from_slice(&[0xee, 0x49, 0xca, 0xfe]);
        let caught = Caught::read(true, TAG, &error).unwrap();
        assert_eq!(caught.answered, Answered { protocol: ICMPV6, from: 61_001, to: 0 });
    }

    #[test]
    fn a_knock_that_came_past_says_who_let_it_in() {
        let mut record = vec![0; PASSED_BYTES];
        record[0] = UDP;
        record[4..8].copy_from_slice(&[0xee, 0x48, 0x1c, 0xfc]);
        let speaker = Speaker::Rule(RuleIndex(2));
        record[12..16].copy_from_slice(&CounterSlot::for_speaker(speaker).0.to_ne_bytes());
        let caught = Caught::read(false, TAG, &record).unwrap();
        assert_eq!(caught.answered, Answered { protocol: UDP, from: 61_000, to: 7420 });
        assert_eq!(caught.what, What::Passed(Some(speaker)));
        record[16..20].copy_from_slice(&NO_GATE.to_ne_bytes());
        assert_eq!(Caught::read(false, TAG, &record).unwrap().what, What::Passed(None));
        record[1] = CAME_OUT;
        record[8..12].copy_from_slice(&[203, 0, 113, 9]);
        let caught = Caught::read(false, TAG, &record).unwrap();
        assert_eq!(caught.what, What::CameOut("203.0.113.9".parse().unwrap()));
        assert_eq!(caught.answered, Answered { protocol: UDP, from: 61_000, to: 7420 });
    }
}
