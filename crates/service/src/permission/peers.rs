//! Who is at the other end of a connection on loopback: the kernel knows which user owns the peer's socket.
//!
//! The question is asked once for each connection, by netlink socket diagnostics with an exact match, or
//! else by the kernel's lists of connections. Only an established socket counts: one that was closed
//! meanwhile shows user 0.

use std::io;
use std::net::{IpAddr, SocketAddr};

use actix_web::rt::net::TcpStream;
use netlink_packet_core::{NLM_F_REQUEST, NetlinkHeader, NetlinkMessage, NetlinkPayload};
use netlink_packet_sock_diag::SockDiagMessage;
use netlink_packet_sock_diag::constants::{AF_INET, AF_INET6, IPPROTO_TCP};
use netlink_packet_sock_diag::inet::{ExtensionFlags, InetRequest, SocketId, StateFlags};
use netlink_sys::protocols::NETLINK_SOCK_DIAG;
use netlink_sys::{Socket, SocketAddr as NetlinkAddress};

/// The state of an established connection, as the kernel numbers them.
const ESTABLISHED: u8 = 1;
/// Longest answer of the kernel to one question, in bytes.
const ANSWER: usize = 4096;
/// Any socket will do, whatever its cookie.
const NO_COOKIE: [u8; 8] = [0xff; 8];

/// Who is at the other end of a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) enum Peer {
    /// A user of this machine, by number.
    User(u32),
    /// Unknown.
    Unknown,
}

impl Peer {
    /// The peer of a connection that was just accepted.
    pub(crate) fn of(connection: &TcpStream) -> Self {
        match (connection.peer_addr(), connection.local_addr()) {
            (Ok(peer), Ok(own)) => Self::at(peer, own),
            _ => Self::Unknown,
        }
    }

    /// Whose socket is at `peer` and connected to `own`.
    fn at(peer: SocketAddr, own: SocketAddr) -> Self {
        if !peer.ip().is_loopback() || !own.ip().is_loopback() {
            return Self::Unknown;
        }
        let found = by_netlink(peer, own).or_else(|error| {
            tracing::debug!("the kernel was not asked by netlink: {error}");
            by_list(peer, own)
        });
        found.ok().flatten().map_or(Self::Unknown, Self::User)
    }
}

impl std::fmt::Display for Peer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::User(user) => write!(f, "user {user}"),
            Self::Unknown => f.write_str("an unknown user"),
        }
    }
}

/// Asks for one socket; none if it does not exist or is not established.
fn by_netlink(peer: SocketAddr, own: SocketAddr) -> io::Result<Option<u32>> {
    let mut socket = Socket::new(NETLINK_SOCK_DIAG)?;
    socket.bind_auto()?;
    socket.connect(&NetlinkAddress::new(0, 0))?;
    let question = InetRequest {
        family: if peer.is_ipv4() { AF_INET } else { AF_INET6 },
        protocol: IPPROTO_TCP,
        extensions: ExtensionFlags::empty(),
        states: StateFlags::ESTABLISHED,
        socket_id: SocketId {
            source_port: peer.port(),
            destination_port: own.port(),
            source_address: peer.ip(),
            destination_address: own.ip(),
            interface_id: 0,
            cookie: NO_COOKIE,
        },
    };
    let mut header = NetlinkHeader::default();
    header.flags = NLM_F_REQUEST;
    let mut message = NetlinkMessage::new(header, SockDiagMessage::InetRequest(question).into());
    message.finalize();
    let mut bytes = vec![0; message.buffer_len()];
    message.serialize(&mut bytes);
    socket.send(&bytes, 0)?;
    let mut answer = Vec::with_capacity(ANSWER);
    socket.recv(&mut answer, 0)?;
    let answer = NetlinkMessage::<SockDiagMessage>::deserialize(&answer)
        .map_err(|error| io::Error::other(error.to_string()))?;
    match answer.payload {
        NetlinkPayload::InnerMessage(SockDiagMessage::InetResponse(found)) => {
            // If no such connection exists, the kernel returns a socket that listens there.
            let id = &found.header.socket_id;
            let is_it = found.header.state == ESTABLISHED
                && (id.source_port, id.destination_port) == (peer.port(), own.port())
                && (id.source_address, id.destination_address) == (peer.ip(), own.ip());
            Ok(is_it.then_some(found.header.uid))
        }
        NetlinkPayload::Error(error) => match error.to_io() {
            error if error.kind() == io::ErrorKind::NotFound => Ok(None),
            error => Err(error),
        },
        _ => Err(io::Error::other("the reply of the kernel cannot be read")),
    }
}

/// Looks into the kernel's list of connections.
fn by_list(peer: SocketAddr, own: SocketAddr) -> io::Result<Option<u32>> {
    let list = if peer.is_ipv4() { "/proc/net/tcp" } else { "/proc/net/tcp6" };
    Ok(owner_in(&std::fs::read_to_string(list)?, peer, own))
}

fn owner_in(list: &str, peer: SocketAddr, own: SocketAddr) -> Option<u32> {
    let (local, remote) = (written(peer), written(own));
    let established = format!("{ESTABLISHED:02X}");
    list.lines().skip(1).find_map(|line| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let [_, from, to, state, _, _, _, user, ..] = fields[..] else {
            return None;
        };
        let is_it = from == local && to == remote && state == established;
        is_it.then(|| user.parse().ok()).flatten()
    })
}

/// An address as the kernel's lists have it: words of four bytes in the machine's order.
fn written(address: SocketAddr) -> String {
    let words: Vec<u8> = match address.ip() {
        IpAddr::V4(ip) => ip.octets().to_vec(),
        IpAddr::V6(ip) => ip.octets().to_vec(),
    };
    let words = words.chunks_exact(4).map(|word| {
        let word = u32::from_ne_bytes([word[0], word[1], word[2], word[3]]);
        format!("{word:08X}")
    });
    format!("{}:{:04X}", words.collect::<String>(), address.port())
}

#[cfg(test)]
mod tests {
    use std::net::{TcpListener, TcpStream as StdStream};

    use super::*;

    /// A connection: its listener, the caller's end, and both addresses as the service sees them.
    fn connected(address: &str) -> (TcpListener, StdStream, SocketAddr, SocketAddr) {
        let listener = TcpListener::bind(address).unwrap();
        let caller = StdStream::connect(listener.local_addr().unwrap()).unwrap();
        let (accepted, peer) = listener.accept().unwrap();
        let own = accepted.local_addr().unwrap();
        // Our own end stays open, as that of a service would.
        std::mem::forget(accepted);
        (listener, caller, peer, own)
    }

    #[test]
    fn both_ways_of_asking_tell_who_owns_a_connection() {
        let me = rustix::process::geteuid().as_raw();
        for address in ["127.0.0.1:0", "[::1]:0"] {
            let (_listener, caller, peer, own) = connected(address);
            assert_eq!(by_netlink(peer, own).unwrap(), Some(me), "{address}");
            assert_eq!(by_list(peer, own).unwrap(), Some(me), "{address}");
            assert_eq!(Peer::at(peer, own), Peer::User(me));
            drop(caller);
            // A closed socket has no owner; its user 0 does not count.
            assert_eq!(by_netlink(peer, own).unwrap(), None, "{address}");
            assert_eq!(by_list(peer, own).unwrap(), None, "{address}");
            assert_eq!(Peer::at(peer, own), Peer::Unknown);
        }
    }

    #[test]
    fn a_socket_that_only_listens_is_nobodys_connection() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let listens = listener.local_addr().unwrap();
        let other = "127.0.0.1:9".parse().unwrap();
        assert_eq!(by_netlink(listens, other).unwrap(), None);
        assert_eq!(by_list(listens, other).unwrap(), None);
    }

    #[test]
    fn who_is_not_on_this_machine_is_unknown() {
        let own = "127.0.0.1:8471".parse().unwrap();
        assert_eq!(Peer::at("192.0.2.7:50000".parse().unwrap(), own), Peer::Unknown);
    }

    #[test]
    fn a_list_is_read_by_its_columns() {
        let list = "  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid\n   \
                    0: 0100007F:C350 0100007F:2117 06 00000000:00000000 00:00000000 00000000     0\n   \
                    1: 0100007F:C351 0100007F:2117 01 00000000:00000000 00:00000000 00000000  1000\n";
        let own = "127.0.0.1:8471".parse().unwrap();
        let at = |port: u16| owner_in(list, SocketAddr::new([127, 0, 0, 1].into(), port), own);
        assert_eq!(at(50000), None, "closed: it shows user 0");
        assert_eq!(at(50001), Some(1000));
        assert_eq!(at(50002), None);
    }
}
