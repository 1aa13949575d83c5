//! What a fuzzer does to frames: bits, lengths, tags, extension headers.

use proptest::prelude::*;

/// One thing that is done to a frame.
#[derive(Clone, Debug)]
pub enum Harm {
    Bit(prop::sample::Index, u8),
    Cut(prop::sample::Index),
    Tags(Vec<(u16, u16)>),
    Extensions(Vec<u8>),
    Bytes(prop::sample::Index, Vec<u8>),
}

/// Anything of it.
pub fn harm() -> impl Strategy<Value = Harm> {
    use prop::collection::vec;
    use prop::sample::{Index, select};
    let tag = (select(vec![0x8100u16, 0x88a8, 0x9100, 0x8847]), select(vec![0u16, 0xe000, 7]));
    prop_oneof![
        4 => (any::<Index>(), 0u8..8).prop_map(|(at, bit)| Harm::Bit(at, bit)),
        2 => any::<Index>().prop_map(Harm::Cut),
        2 => vec(tag, 1..4).prop_map(Harm::Tags),
        2 => vec(select(vec![0u8, 43, 60, 44, 51, 50, 59, 135]), 1..9).prop_map(Harm::Extensions),
        1 => (any::<Index>(), vec(any::<u8>(), 1..6)).prop_map(|(at, with)| Harm::Bytes(at, with)),
    ]
}

/// A frame with harm done to it. Who sends it and to whom stays what it was:
/// that says whether it is for this host.
pub fn harmed(frame: Vec<u8>, harm: &Harm) -> Vec<u8> {
    let ends = match frame[12..14] {
        [8, 0] => 26..34,
        _ => 22..54,
    };
    let kept = frame[ends.clone()].to_vec();
    let mut frame = frame;
    match harm {
        Harm::Bit(at, bit) => {
            let at = 14 + at.index(frame.len() - 14);
            frame[at] ^= 1 << bit;
        }
        Harm::Cut(at) => {
            let least = ends.end;
            frame.truncate(least + at.index(frame.len() - least + 1));
        }
        Harm::Tags(tags) => {
            let tags = tags.iter().flat_map(|(kind, id)| [kind.to_be_bytes(), id.to_be_bytes()]);
            let tags: Vec<u8> = tags.flatten().collect();
            frame.splice(12..12, tags);
            return frame;
        }
        Harm::Extensions(kinds) => {
            if frame[12..14] != [0x86, 0xdd] {
                // Options in IPv4: no operation, or a source route.
                frame[14] = 0x46;
                frame.splice(34..34, [kinds[0], 4, 4, 0]);
                let length = u16::from_be_bytes([frame[16], frame[17]]) + 4;
                frame[16..18].copy_from_slice(&length.to_be_bytes());
            } else {
                for kind in kinds {
                    let next = std::mem::replace(&mut frame[20], *kind);
                    frame.splice(54..54, [next, 0, 0, 0, 0, 0, 0, 0]);
                }
                let length = (frame.len() - 54) as u16;
                frame[18..20].copy_from_slice(&length.to_be_bytes());
            }
        }
        Harm::Bytes(at, with) => {
            let at = 14 + at.index(frame.len() - 14);
            let end = (at + with.len()).min(frame.len());
            frame[at..end].copy_from_slice(&with[..end - at]);
        }
    }
    if frame.len() >= ends.end {
        frame[ends].copy_from_slice(&kept);
    }
    frame
}
