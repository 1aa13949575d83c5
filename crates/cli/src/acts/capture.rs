//! Packets out of a capture: pcap and pcapng, plain or gzip, from a file or a pipe.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};
use std::net::IpAddr;
use std::path::Path;
use std::time::Duration;

use flate2::bufread::MultiGzDecoder;
use jiff::Timestamp;
use pcap_parser::nom::IResult;
use pcap_parser::traits::PcapNGPacketBlock;
use pcap_parser::{
    Block, LegacyPcapBlock, Linktype, PcapBlockOwned, PcapError, create_reader, parse_pcap_frame,
    parse_pcap_frame_be, parse_pcap_frame_modified,
};
use tipstaff_core::analysis::replay::Arrived;
use tipstaff_core::packet::{InterfaceIndex, LinkFrame, Packet, parse_ethernet, parse_ip};
use tipstaff_host::interfaces;

use crate::acts::decisions::moment;
use crate::failure::{Failure, system};
use crate::terminal::counted;

/// Bytes that are read ahead: a packet may have that many.
const AHEAD: usize = 1 << 20;
/// Bytes that are read at once: they are worked on while they are in the processor's cache.
const AT_ONCE: usize = 1 << 17;
const GZIP: [u8; 2] = [0x1f, 0x8b];

/// What a packet begins with (<https://www.tcpdump.org/linktypes.html>).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Link {
    Ethernet,
    /// The IP header itself.
    Ip,
    /// Linux cooked mode, the first version: the protocol in bytes 14 and 15 of 16.
    Cooked,
    /// The second one: the protocol in the first two of 20.
    CookedTwo,
}

impl Link {
    fn of(kind: Linktype) -> Option<Self> {
        Some(match kind.0 {
            1 => Self::Ethernet,
            12 | 14 | 101 | 228 | 229 => Self::Ip,
            113 => Self::Cooked,
            276 => Self::CookedTwo,
            _ => return None,
        })
    }

    /// Whether it was sent to all or many of the link.
    fn is_to_many(self, bytes: &[u8]) -> bool {
        // The kernel's packet types (linux/if_packet.h): PACKET_BROADCAST and PACKET_MULTICAST.
        let cooked = |kind: Option<&[u8]>| matches!(kind, Some([.., 1 | 2]));
        match self {
            Self::Ethernet => bytes.first().is_some_and(|first| first & 1 == 1),
            Self::Ip => false,
            Self::Cooked => cooked(bytes.get(..2)),
            Self::CookedTwo => cooked(bytes.get(10..11)),
        }
    }

    #[inline]
    fn packet(self, bytes: &[u8]) -> Packet {
        let (protocol, header) = match self {
            Self::Ethernet => return parse_ethernet(bytes),
            Self::Ip => {
                return match bytes.first().map(|first| first >> 4) {
                    Some(4) => parse_ip(false, bytes),
                    Some(6) => parse_ip(true, bytes),
                    _ => Packet::Malformed,
                };
            }
            Self::Cooked => (bytes.get(14..16), 16),
            Self::CookedTwo => (bytes.get(..2), 20),
        };
        match (protocol, bytes.get(header..)) {
            (Some([0x08, 0x00]), Some(ip)) => parse_ip(false, ip),
            (Some([0x86, 0xdd]), Some(ip)) => parse_ip(true, ip),
            _ => Packet::Link(LinkFrame::Named),
        }
    }
}

/// One packet.
pub struct Captured {
    pub packet: Packet,
    /// Whether its link layer sent it to all or many.
    pub to_many: bool,
    /// Its bytes on the wire.
    pub length: u64,
    /// Since 1970-01-01 UTC.
    pub at: Duration,
    /// The number of its interface in the capture, over all sections.
    pub interface: usize,
}

impl Captured {
    /// As lists decide it.
    pub fn arrived(&self) -> Arrived<'_> {
        let Self { to_many, at, length, .. } = *self;
        Arrived { packet: &self.packet, interface: number(self.interface), to_many, at, length }
    }
}

/// How a capture ends.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum End {
    Whole,
    /// It is cut or damaged behind so many bytes.
    Damaged {
        offset: u64,
        why: String,
    },
    /// Interfaces of a kind that is not read, and how many packets they had.
    Foreign {
        kind: i32,
        packets: u64,
    },
}

impl End {
    /// What of it was not read; `None`: nothing.
    pub fn words(&self) -> Option<String> {
        match self {
            Self::Whole => None,
            Self::Damaged { offset, why } => {
                Some(format!("the capture is read up to byte {offset}: {why}"))
            }
            Self::Foreign { kind, packets } => {
                let packets = usize::try_from(*packets).unwrap_or(usize::MAX);
                Some(format!(
                    "{} of link type {kind}, which is not read (Ethernet, IP and Linux cooked are)",
                    counted(packets, "packet is", "packets are")
                ))
            }
        }
    }
}

/// An interface of the capture.
struct Interface {
    link: Option<Link>,
    kind: i32,
    offset: i64,
    resolution: u64,
}

/// What the capture tells.
pub enum News<'p> {
    /// An interface: its name, where one is written, and the kind of its link layer.
    Interface {
        name: Option<String>,
        kind: i32,
    },
    Packet(&'p Captured, &'p [u8]),
}

/// Why a capture is not read at all.
#[derive(Debug, thiserror::Error)]
pub enum NoCapture {
    #[error(transparent)]
    Io(#[from] io::Error),
    #[error("it is neither pcap nor pcapng")]
    Neither,
}

impl NoCapture {
    /// Of a file.
    pub fn of(self, path: &Path) -> Failure {
        match self {
            Self::Io(source) => Failure::Unreadable { path: path.to_owned(), source },
            Self::Neither => Failure::Argument {
                message: format!("{}: it is neither pcap nor pcapng", path.display()),
                help: "Write a capture with: tcpdump -w FILE".into(),
            },
        }
    }
}

/// Interfaces are counted from 2: 1 is the loopback interface of every host.
pub fn number(index: usize) -> InterfaceIndex {
    InterfaceIndex(u32::try_from(index + 2).unwrap_or(u32::MAX))
}

/// A moment of a capture, as decisions have theirs.
pub fn moment_of(at: Duration) -> String {
    let nanoseconds = i128::try_from(at.as_nanos()).unwrap_or(i128::MAX);
    moment(Timestamp::from_nanosecond(nanoseconds).unwrap_or(Timestamp::MAX))
}

/// The addresses of the host whose packets were captured: those that were named, else those
/// that its orders give it, else this machine's.
pub fn own(named: &[IpAddr], written: &[IpAddr]) -> Result<Vec<IpAddr>, Failure> {
    let mut own = if named.is_empty() { written.to_vec() } else { named.to_vec() };
    if own.is_empty() {
        let all = interfaces::list().map_err(system("reading the interfaces"))?;
        own = all.iter().flat_map(|i| i.addresses.iter().map(|(address, _)| *address)).collect();
    }
    own.sort_unstable();
    own.dedup();
    Ok(own)
}

/// Bytes of a capture, as they stand in it.
pub type Input = Box<dyn BufRead + Send>;

/// Opens a file, or standard input for `-`.
pub fn opened(path: &Path) -> io::Result<Input> {
    Ok(match path == Path::new("-") {
        true => Box::new(BufReader::new(io::stdin())),
        // Of a plain capture only the first bytes are looked at here.
        false => Box::new(BufReader::new(File::open(path)?)),
    })
}

fn unpacked(mut plain: Input) -> io::Result<Input> {
    let packed = plain.fill_buf()?.starts_with(&GZIP);
    Ok(match packed {
        true => Box::new(BufReader::with_capacity(AHEAD, MultiGzDecoder::new(plain))),
        false => plain,
    })
}

/// What is read in pieces of at most [`AT_ONCE`].
struct Pieces(Input);

impl Read for Pieces {
    fn read(&mut self, room: &mut [u8]) -> io::Result<usize> {
        let most = room.len().min(AT_ONCE);
        self.0.read(&mut room[..most])
    }
}

/// Reads a capture to its end, or as far as it can be read.
///
/// # Errors
/// [`NoCapture`], or what `take` says.
pub fn read<E: From<NoCapture>>(
    input: Input,
    mut take: impl FnMut(News<'_>) -> Result<(), E>,
) -> Result<End, E> {
    let input = Pieces(unpacked(input).map_err(NoCapture::from)?);
    let mut reader = match create_reader(AHEAD, Box::new(input) as Box<dyn Read + Send>) {
        Err(PcapError::ReadError) => {
            return Err(NoCapture::Io(io::Error::other("it cannot be read")).into());
        }
        reader => reader.map_err(|_| NoCapture::Neither)?,
    };
    let (mut told, mut offset) = (Told::default(), 0u64);
    loop {
        // Those of pcap that are in memory as a whole, at once.
        let mut used = 0;
        if let Some(frame) = told.framing {
            let ahead = reader.data();
            while let Ok((rest, packet)) = frame(&ahead[used..]) {
                if let Some(why) = told.frame(&packet, &mut take)? {
                    return Ok(End::Damaged { offset: offset + used as u64, why });
                }
                used = ahead.len() - rest.len();
            }
        }
        if used > 0 {
            offset += used as u64;
            reader.consume(used);
        }
        let next = match reader.next() {
            Ok((used, block)) => match told.block(block, &mut take)? {
                Some(why) => Err(Fault::Damaged(why)),
                None => Ok(used),
            },
            Err(fault) => Err(Fault::of(&fault)),
        };
        match next {
            Ok(used) => {
                offset += used as u64;
                reader.consume(used);
            }
            Err(Fault::End) => break,
            Err(Fault::More) if reader.reader_exhausted() => {
                return Ok(End::Damaged { offset, why: CUT.into() });
            }
            Err(Fault::More) => {
                if let Err(Fault::Damaged(why)) = reader.refill().map_err(|e| Fault::of(&e)) {
                    return Ok(End::Damaged { offset, why });
                }
            }
            Err(Fault::Damaged(why)) => return Ok(End::Damaged { offset, why }),
        }
    }
    Ok(match told.foreign {
        Some((kind, packets)) => End::Foreign { kind, packets },
        None => End::Whole,
    })
}

const CUT: &str = "it ends in the middle";

/// Why there is no next block.
enum Fault {
    End,
    /// It was not read as a whole yet.
    More,
    Damaged(String),
}

impl Fault {
    fn of<I>(fault: &PcapError<I>) -> Self {
        let why = match fault {
            PcapError::Eof => return Self::End,
            PcapError::Incomplete(_) => return Self::More,
            PcapError::UnexpectedEof => CUT,
            PcapError::ReadError => "it cannot be read further",
            PcapError::BufferTooSmall => "a block is larger than 1 MiB",
            _ => "a block is damaged",
        };
        Self::Damaged(why.into())
    }
}

/// What was told of the capture so far.
#[derive(Default)]
struct Told {
    /// Those of the section.
    interfaces: Vec<Interface>,
    /// How many those of the sections before were.
    before: usize,
    /// A packet of which the capture has only the begin, filled up.
    whole: Vec<u8>,
    /// A kind of interface that is not read, and its packets.
    foreign: Option<(i32, u64)>,
    /// How packets stand in it, where it is pcap.
    framing: Option<Framing>,
    /// Nanoseconds of a part of a second there.
    tick: u64,
}

/// Reads one packet of pcap, and what comes behind it.
type Framing = fn(&[u8]) -> IResult<&[u8], LegacyPcapBlock<'_>, PcapError<&[u8]>>;

/// Where a packet stands.
struct Place {
    interface: usize,
    at: Duration,
    /// Bytes on the wire, of which the capture may have fewer.
    length: u32,
}

impl Told {
    /// One block; what is wrong with it.
    fn block<E>(
        &mut self,
        block: PcapBlockOwned<'_>,
        take: &mut impl FnMut(News<'_>) -> Result<(), E>,
    ) -> Result<Option<String>, E> {
        match block {
            PcapBlockOwned::LegacyHeader(header) => {
                let nanoseconds = header.is_nanosecond_precision();
                let resolution = if nanoseconds { 1_000_000_000 } else { 1_000_000 };
                let kind = header.network;
                let link = Link::of(kind);
                self.interfaces.push(Interface { link, kind: kind.0, offset: 0, resolution });
                self.framing = Some(match (header.is_modified_format(), header.is_bigendian()) {
                    (true, _) => parse_pcap_frame_modified,
                    (_, true) => parse_pcap_frame_be,
                    _ => parse_pcap_frame,
                });
                self.tick = if nanoseconds { 1 } else { 1_000 };
                take(News::Interface { name: None, kind: kind.0 })?;
            }
            PcapBlockOwned::Legacy(packet) => return self.frame(&packet, take),
            PcapBlockOwned::NG(Block::SectionHeader(_)) => {
                self.before += self.interfaces.len();
                self.interfaces.clear();
            }
            PcapBlockOwned::NG(Block::InterfaceDescription(description)) => {
                let kind = description.linktype;
                self.interfaces.push(Interface {
                    link: Link::of(kind),
                    kind: kind.0,
                    offset: description.ts_offset(),
                    resolution: description.ts_resolution().unwrap_or(1_000_000).max(1),
                });
                let name = description.if_name().and_then(Result::ok).map(str::to_owned);
                take(News::Interface { name, kind: kind.0 })?;
            }
            PcapBlockOwned::NG(Block::EnhancedPacket(packet)) => {
                let interface = packet.if_id as usize;
                let known = self.interfaces.get(interface);
                let (offset, unit) = known.map_or((0, 1_000_000), |k| (k.offset, k.resolution));
                let ticks = u64::from(packet.ts_high) << 32 | u64::from(packet.ts_low);
                let part = u128::from(ticks % unit) * 1_000_000_000 / u128::from(unit);
                let at = Duration::from_secs((ticks / unit).saturating_add_signed(offset))
                    + Duration::from_nanos(u64::try_from(part).unwrap_or_default());
                let place = Place { interface, at, length: packet.origlen };
                return self.packet(place, packet.packet_data(), take);
            }
            PcapBlockOwned::NG(Block::SimplePacket(packet)) => {
                // It has no time of its own.
                let place = Place { interface: 0, at: Duration::ZERO, length: packet.origlen };
                return self.packet(place, packet.packet_data(), take);
            }
            PcapBlockOwned::NG(_) => {}
        }
        Ok(None)
    }

    /// A packet of pcap.
    fn frame<E>(
        &mut self,
        packet: &LegacyPcapBlock<'_>,
        take: &mut impl FnMut(News<'_>) -> Result<(), E>,
    ) -> Result<Option<String>, E> {
        let part = u64::from(packet.ts_usec) * self.tick;
        let at = Duration::from_secs(packet.ts_sec.into()) + Duration::from_nanos(part);
        let place = Place { interface: 0, at, length: packet.origlen };
        self.packet(place, packet.data, take)
    }

    fn packet<E>(
        &mut self,
        place: Place,
        data: &[u8],
        take: &mut impl FnMut(News<'_>) -> Result<(), E>,
    ) -> Result<Option<String>, E> {
        let Place { interface, at, length } = place;
        let Some(known) = self.interfaces.get(interface) else {
            let why = format!("a packet is of interface {interface}, which it does not tell of");
            return Ok(Some(why));
        };
        let Some(link) = known.link else {
            let packets = self.foreign.map_or(0, |(_, packets)| packets);
            self.foreign = Some((known.kind, packets + 1));
            return Ok(None);
        };
        let wire = length as usize;
        // What was not captured of a packet does not matter, but for its length.
        let bytes = match wire > data.len() && wire <= AHEAD {
            true => {
                self.whole.clear();
                self.whole.extend_from_slice(data);
                self.whole.resize(wire, 0);
                self.whole.as_slice()
            }
            false => data,
        };
        let captured = Captured {
            packet: link.packet(bytes),
            to_many: link.is_to_many(data),
            length: length.into(),
            at,
            interface: self.before + interface,
        };
        take(News::Packet(&captured, data)).map(|()| None)
    }
}
