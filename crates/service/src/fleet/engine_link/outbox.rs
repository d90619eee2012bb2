//! Messages to an engine process. Who sends one writes it at once where the socket takes it, so that no other thread has
//! to wake up for it; what the socket does not take is written by a task, in order.

use std::sync::Arc;

use bytes::Bytes;
use parking_lot::Mutex;
use tokio::net::unix::OwnedWriteHalf;
use tokio::sync::mpsc;

/// The sending side of a link.
pub(super) struct Outbox {
    state: Mutex<State>,
    waiting: mpsc::UnboundedSender<Bytes>,
}

/// The socket, until the link has ended, and how many messages wait for it.
struct State {
    socket: Option<Arc<OwnedWriteHalf>>,
    waiting: usize,
}

impl Outbox {
    /// An outbox, with the messages that wait for [`Outbox::write_waiting`].
    pub(super) fn new(socket: OwnedWriteHalf) -> (Self, mpsc::UnboundedReceiver<Bytes>) {
        let (waiting, messages) = mpsc::unbounded_channel();
        let state = Mutex::new(State { socket: Some(Arc::new(socket)), waiting: 0 });
        (Self { state, waiting }, messages)
    }

    /// Sends a message with its length.
    ///
    /// # Errors
    /// The link has ended.
    pub(super) fn send(&self, message: Bytes) -> Result<(), ()> {
        let mut state = self.state.lock();
        let written = match &state.socket {
            None => return Err(()),
            // Where messages wait, this one is behind them.
            Some(socket) if state.waiting == 0 => socket.try_write(&message).unwrap_or(0),
            Some(_) => 0,
        };
        if written == message.len() {
            return Ok(());
        }
        // Counted under the lock, so that no later message overtakes this one.
        state.waiting += 1;
        self.waiting.send(message.slice(written..)).map_err(drop)
    }

    /// Whether the link has ended.
    pub(super) fn is_closed(&self) -> bool {
        self.state.lock().socket.is_none()
    }

    /// No more is sent from now on.
    pub(super) fn close(&self) {
        self.state.lock().socket = None;
    }

    /// Writes a message that waited; false if the link has ended.
    pub(super) async fn write_waiting(&self, message: Bytes) -> bool {
        let Some(socket) = self.state.lock().socket.clone() else { return false };
        let mut left = &message[..];
        while !left.is_empty() {
            if socket.writable().await.is_err() {
                return false;
            }
            match socket.try_write(left) {
                Ok(written) => left = &left[written..],
                Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => {}
                Err(_) => return false,
            }
        }
        self.state.lock().waiting -= 1;
        true
    }
}

#[cfg(test)]
mod tests {
    use tokio::io::AsyncReadExt;
    use tokio::net::UnixStream;

    use super::*;

    /// The socket takes some messages at once, and others only when its other end reads.
    #[tokio::test]
    async fn messages_arrive_whole_and_in_order_however_full_the_socket_is() {
        let (ours, mut theirs) = UnixStream::pair().unwrap();
        let (outbox, mut messages) = Outbox::new(ours.into_split().1);
        let outbox = Arc::new(outbox);
        let sent = |at: u8| Bytes::from(vec![at; 1 + usize::from(at) * 997]);
        for at in 0..200 {
            outbox.send(sent(at)).unwrap();
        }
        assert!(outbox.state.lock().waiting > 0, "the socket was full");
        let writing = Arc::clone(&outbox);
        let task = tokio::spawn(async move {
            while let Some(message) = messages.recv().await {
                assert!(writing.write_waiting(message).await);
            }
        });
        for at in 0..=255 {
            let mut found = vec![0; sent(at).len()];
            theirs.read_exact(&mut found).await.unwrap();
            assert!(found == sent(at), "message {at}");
            if let Some(more) = at.checked_add(200) {
                outbox.send(sent(more)).unwrap();
            }
        }
        // All is written: the next one goes to the socket at once.
        while outbox.state.lock().waiting > 0 {
            tokio::task::yield_now().await;
        }
        task.abort();
        outbox.send(sent(1)).unwrap();
        theirs.read_exact(&mut vec![0; sent(1).len()]).await.unwrap();
        outbox.close();
        assert!(outbox.send(sent(1)).is_err() && outbox.is_closed());
    }
}
