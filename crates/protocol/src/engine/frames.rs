//! Messages as frames on the link. A frame is its length in four little-endian bytes, the number of the call it
//! is about in eight (0 where it is about none), and JSON. The number stands apart so that also a message which
//! is not understood, or is too long, is answered with an error of that call.

use std::io::{self, Read, Write};

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

/// Longest frame in bytes that is accepted, without its length. The service refuses a call that would need a
/// longer one.
pub const MAX_FRAME: usize = 8 << 20;
/// Deepest nesting of arrays and objects in what a call brings along (messages, tools). Far below what the
/// readers of both sides can take.
pub const MAX_DEPTH: usize = 64;
/// Most values (numbers, texts, arrays, objects) in what a call brings along: each takes far more memory than
/// it has letters.
pub const MAX_VALUES: usize = 100_000;
/// Bytes of a frame before its JSON and after its length.
pub const CALL_BYTES: usize = 8;

/// Something that is sent over the link.
pub trait Message: Serialize {
    /// Number of the call it is about; 0 where it is about none.
    fn about(&self) -> u64;
}

/// Why a frame could not be read or written.
#[derive(Debug, thiserror::Error)]
pub enum FrameError {
    /// The other side closed the link.
    #[error("the link is closed")]
    Closed,
    /// The frame is longer than [`MAX_FRAME`]. The next one can be read.
    #[error("a message of {bytes} bytes is too long; at most {MAX_FRAME} are possible")]
    TooLong {
        /// The call it is about.
        call: u64,
        /// Its length.
        bytes: usize,
    },
    /// Not a message of this version. The next one can be read.
    #[error("a message cannot be read: {source}")]
    Malformed {
        /// The call it is about.
        call: u64,
        /// Why.
        source: serde_json::Error,
    },
    /// The operating system says no.
    #[error("the link failed: {0}")]
    Io(#[from] io::Error),
}

/// The bytes of a frame.
///
/// # Errors
/// The message is too long, or cannot be written as JSON.
pub fn encode_frame<T: Message>(message: &T) -> Result<Vec<u8>, FrameError> {
    let call = message.about();
    let mut frame = vec![0; 4];
    frame.extend(call.to_le_bytes());
    serde_json::to_writer(&mut frame, message)
        .map_err(|source| FrameError::Malformed { call, source })?;
    let bytes = frame.len() - 4;
    let short = u32::try_from(bytes).ok().filter(|_| bytes <= MAX_FRAME);
    let prefix = short.ok_or(FrameError::TooLong { call, bytes })?;
    frame[..4].copy_from_slice(&prefix.to_le_bytes());
    Ok(frame)
}

/// Writes one frame.
///
/// # Errors
/// As [`encode_frame`], or the link failed.
pub fn write_frame<T: Message>(mut link: impl Write, message: &T) -> Result<(), FrameError> {
    link.write_all(&encode_frame(message)?)?;
    Ok(link.flush()?)
}

/// Reads one frame, waiting for it. One that is too long is passed over.
///
/// # Errors
/// The link is closed or failed, or the frame is too long or not understood.
pub fn read_frame<T: DeserializeOwned>(mut link: impl Read) -> Result<T, FrameError> {
    let mut prefix = [0; 4];
    match link.read_exact(&mut prefix) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => {
            return Err(FrameError::Closed);
        }
        other => other?,
    }
    let bytes = u32::from_le_bytes(prefix) as usize;
    let mut call = [0; CALL_BYTES];
    let Some(rest) = bytes.checked_sub(CALL_BYTES) else {
        let what =
            io::Error::new(io::ErrorKind::InvalidData, "a frame without the number of a call");
        return Err(FrameError::Io(what));
    };
    link.read_exact(&mut call)?;
    let call = u64::from_le_bytes(call);
    if bytes > MAX_FRAME {
        io::copy(&mut link.take(rest as u64), &mut io::sink())?;
        return Err(FrameError::TooLong { call, bytes });
    }
    let mut body = vec![0; rest];
    link.read_exact(&mut body)?;
    serde_json::from_slice(&body).map_err(|source| FrameError::Malformed { call, source })
}

/// Why values that a call brings along are not taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum TooMuch {
    /// They are nested too deep.
    #[error("is nested deeper than {MAX_DEPTH} levels")]
    Deep,
    /// They are too many.
    #[error("has more than {MAX_VALUES} values")]
    Many,
}

/// Checks values that a call brings along. Takes no more stack than [`MAX_DEPTH`] levels need.
///
/// # Errors
/// They are nested too deep, or too many.
pub fn check_values<'v>(values: impl IntoIterator<Item = &'v Value>) -> Result<(), TooMuch> {
    fn check(value: &Value, depth: usize, left: &mut usize) -> Result<(), TooMuch> {
        *left = left.checked_sub(1).ok_or(TooMuch::Many)?;
        let within = || depth.checked_sub(1).ok_or(TooMuch::Deep);
        match value {
            Value::Array(items) => {
                let within = within()?;
                items.iter().try_for_each(|item| check(item, within, left))
            }
            Value::Object(map) => {
                let within = within()?;
                map.values().try_for_each(|item| check(item, within, left))
            }
            _ => Ok(()),
        }
    }
    let mut left = MAX_VALUES;
    values.into_iter().try_for_each(|value| check(value, MAX_DEPTH, &mut left))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::engine::{FromEngine, ToEngine};

    #[test]
    fn frames_return_what_was_written() {
        let text = "Moonhook bean 🌱".to_owned();
        let message = FromEngine::Text {
            call: 7,
            answer: 0,
            part: super::super::Part::Answer,
            text,
            scores: Vec::new(),
        };
        let mut link = Vec::new();
        write_frame(&mut link, &message).unwrap();
        write_frame(&mut link, &message).unwrap();
        let mut reader = link.as_slice();
        assert_eq!(read_frame::<FromEngine>(&mut reader).unwrap(), message);
        assert_eq!(read_frame::<FromEngine>(&mut reader).unwrap(), message);
        assert!(matches!(read_frame::<FromEngine>(&mut reader), Err(FrameError::Closed)));
    }

    #[test]
    fn an_absurd_length_is_refused_before_anything_is_allocated() {
        let mut link = u32::MAX.to_le_bytes().to_vec();
        link.extend(7_u64.to_le_bytes());
        let result = read_frame::<FromEngine>(link.as_slice());
        assert!(matches!(result, Err(FrameError::TooLong { call: 7, .. })), "{result:?}");
        let short = [3_u8, 0, 0, 0, 1, 2, 3];
        assert!(matches!(read_frame::<FromEngine>(short.as_slice()), Err(FrameError::Io(_))));
    }

    #[test]
    fn what_is_not_understood_or_too_long_names_its_call_and_the_next_one_is_read() {
        let mut link = Vec::new();
        for body in [&b"{\"say\": \"sow\"}"[..], b"\xff\xfe", b"", &b"[".repeat(100_000)] {
            let bytes = u32::try_from(body.len() + CALL_BYTES).unwrap();
            link.extend(bytes.to_le_bytes());
            link.extend(9_u64.to_le_bytes());
            link.extend(body);
        }
        let bytes = MAX_FRAME + 1;
        link.extend(u32::try_from(bytes).unwrap().to_le_bytes());
        link.extend(11_u64.to_le_bytes());
        link.extend(vec![b' '; bytes - CALL_BYTES]);
        write_frame(&mut link, &ToEngine::Cancel { call: 12 }).unwrap();
        let mut reader = link.as_slice();
        for _ in 0..4 {
            let result = read_frame::<ToEngine>(&mut reader);
            assert!(matches!(result, Err(FrameError::Malformed { call: 9, .. })), "{result:?}");
        }
        let result = read_frame::<ToEngine>(&mut reader);
        assert!(matches!(result, Err(FrameError::TooLong { call: 11, .. })), "{result:?}");
        assert_eq!(read_frame::<ToEngine>(&mut reader).unwrap(), ToEngine::Cancel { call: 12 });
        let text = "a".repeat(MAX_FRAME);
        let long = FromEngine::Text {
            call: 5,
            answer: 0,
            part: super::super::Part::Answer,
            text,
            scores: Vec::new(),
        };
        assert!(matches!(encode_frame(&long), Err(FrameError::TooLong { call: 5, .. })));
    }

    #[test]
    fn depth_and_number_of_values_are_bounded() {
        let nested =
            |levels: usize| (0..levels).fold(Value::Null, |inner, _| Value::from(vec![inner]));
        assert_eq!(check_values([&nested(MAX_DEPTH)]), Ok(()));
        assert_eq!(check_values([&nested(MAX_DEPTH + 1)]), Err(TooMuch::Deep));
        let many = Value::from(vec![7; MAX_VALUES - 1]);
        assert_eq!(check_values([&many]), Ok(()));
        assert_eq!(check_values([&many, &Value::Null]), Err(TooMuch::Many));
    }
}
