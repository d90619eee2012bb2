//! The reader: a cursor that compares every length with the rest of the file before it allocates.

use std::io::{BufReader, Read, Seek, SeekFrom};

use super::tensors::{TensorInfo, place};
use super::{Array, GgufError, Header, Metadata, TextList, Value};

const MAGIC: [u8; 4] = *b"GGUF";
const DEFAULT_ALIGNMENT: u64 = 32;
/// Longest accepted key or tensor name in bytes (the specification's own limit is 65,535).
const MAX_NAME_BYTES: u64 = 65_535;
/// Longest text of the metadata in bytes; a chat template has some thousand.
const MAX_TEXT_BYTES: u64 = 16 << 20;
/// Most memory of a header in bytes; a vocabulary of 250,000 entries takes about 20 MiB.
const MAX_HEADER_MEMORY: u64 = 256 << 20;
/// A tensor entry has at least a name length, a rank, one size, a type and an offset.
const MIN_TENSOR_ENTRY_BYTES: u64 = 8 + 4 + 8 + 4 + 8;
/// A key has at least a name length, a type and one byte of value.
const MIN_KEY_BYTES: u64 = 8 + 4 + 1;

pub(super) fn header<R: Read + Seek>(source: R, file_bytes: u64) -> Result<Header, GgufError> {
    let mut cursor = Cursor::new(source, file_bytes)?;
    let version = cursor.magic_and_version()?;
    let tensor_count = cursor.u64("the tensor count")?;
    let key_count = cursor.u64("the key count")?;
    cursor.expect_room("the keys", key_count, MIN_KEY_BYTES)?;
    let metadata = cursor.metadata(key_count)?;
    let alignment = alignment(&metadata)?;
    cursor.expect_room("the tensor list", tensor_count, MIN_TENSOR_ENTRY_BYTES)?;
    let mut tensors = Vec::new();
    for _ in 0..tensor_count {
        tensors.push(cursor.tensor()?);
    }
    let data_start = cursor.offset.next_multiple_of(alignment);
    place(&mut tensors, data_start, alignment, file_bytes)?;
    Ok(Header { version, metadata, tensors, data_start, file_bytes })
}

fn alignment(metadata: &Metadata) -> Result<u64, GgufError> {
    let key = "general.alignment";
    match metadata.get(key) {
        None => Ok(DEFAULT_ALIGNMENT),
        Some(Value::Unsigned(bytes)) if bytes.is_power_of_two() && *bytes <= 1 << 20 => Ok(*bytes),
        Some(other) => Err(GgufError::Malformed {
            what: format!("`{key}` is {other:?}, it must be a power of two up to 1 MiB"),
            offset: 0,
        }),
    }
}

struct Cursor<R> {
    source: BufReader<R>,
    offset: u64,
    file_bytes: u64,
    /// Bytes of memory of the values read so far.
    memory: u64,
}

impl<R: Read + Seek> Cursor<R> {
    fn new(mut source: R, file_bytes: u64) -> Result<Self, GgufError> {
        source.seek(SeekFrom::Start(0))?;
        Ok(Self { source: BufReader::new(source), offset: 0, file_bytes, memory: 0 })
    }

    fn remaining(&self) -> u64 {
        self.file_bytes.saturating_sub(self.offset)
    }

    fn past_end(&self, what: &str, need: u64) -> GgufError {
        GgufError::PastEnd {
            what: what.to_owned(),
            need,
            offset: self.offset,
            file_bytes: self.file_bytes,
        }
    }

    fn malformed(&self, what: String) -> GgufError {
        GgufError::Malformed { what, offset: self.offset }
    }

    /// Refuses a count of elements that cannot fit the rest of the file.
    fn expect_room(&self, what: &str, count: u64, each: u64) -> Result<(), GgufError> {
        match count.checked_mul(each) {
            Some(need) if need <= self.remaining() => Ok(()),
            need => Err(self.past_end(what, need.unwrap_or(u64::MAX))),
        }
    }

    /// Counts memory before it is allocated; a byte of the file may become eight bytes of memory.
    fn take_memory(&mut self, what: &str, bytes: u64) -> Result<(), GgufError> {
        self.memory = self.memory.saturating_add(bytes);
        if self.memory > MAX_HEADER_MEMORY {
            let most = MAX_HEADER_MEMORY >> 20;
            return Err(self.malformed(format!(
                "{what} makes the header take more than {most} MiB of memory"
            )));
        }
        Ok(())
    }

    fn bytes<const N: usize>(&mut self, what: &str) -> Result<[u8; N], GgufError> {
        if self.remaining() < N as u64 {
            return Err(self.past_end(what, N as u64));
        }
        let mut bytes = [0; N];
        self.source.read_exact(&mut bytes)?;
        self.offset += N as u64;
        Ok(bytes)
    }

    fn u32(&mut self, what: &str) -> Result<u32, GgufError> {
        Ok(u32::from_le_bytes(self.bytes(what)?))
    }

    fn u64(&mut self, what: &str) -> Result<u64, GgufError> {
        Ok(u64::from_le_bytes(self.bytes(what)?))
    }

    fn magic_and_version(&mut self) -> Result<u32, GgufError> {
        let magic: [u8; 4] = self.bytes("the magic")?;
        if magic != MAGIC {
            return Err(GgufError::Magic { found: format!("\"{}\"", magic.escape_ascii()) });
        }
        match self.u32("the version")? {
            version @ (2 | 3) => Ok(version),
            version if matches!(version.swap_bytes(), 1..=3) => {
                Err(GgufError::Version { version, hint: "; it is a big-endian file" })
            }
            1 => Err(GgufError::Version { version: 1, hint: "; convert it again from its source" }),
            version => Err(GgufError::Version { version, hint: "" }),
        }
    }

    fn text(&mut self, what: &str, longest: u64) -> Result<String, GgufError> {
        let length = self.u64(what)?;
        if length > self.remaining() {
            return Err(self.past_end(what, length));
        }
        if length > longest {
            return Err(self.malformed(format!("{what} is {length} bytes long")));
        }
        self.take_memory(what, length + size_of::<String>() as u64)?;
        let mut bytes = vec![0; usize::try_from(length).unwrap_or(usize::MAX)];
        self.source.read_exact(&mut bytes)?;
        let start = self.offset;
        self.offset += length;
        String::from_utf8(bytes).map_err(|_| GgufError::Malformed {
            what: format!("{what} is not valid UTF-8"),
            offset: start,
        })
    }

    fn metadata(&mut self, count: u64) -> Result<Metadata, GgufError> {
        let mut metadata = Metadata::default();
        for _ in 0..count {
            let key = self.text("a key", MAX_NAME_BYTES)?;
            let type_id = self.u32("the type of a value")?;
            let value = self.value(&key, type_id)?;
            if !metadata.insert(key.clone(), value) {
                return Err(self.malformed(format!("key `{key}` appears twice")));
            }
        }
        Ok(metadata)
    }

    fn value(&mut self, key: &str, type_id: u32) -> Result<Value, GgufError> {
        let what = key;
        Ok(match type_id {
            0 => Value::Unsigned(u64::from(self.bytes::<1>(what)?[0])),
            1 => Value::Signed(i64::from(i8::from_le_bytes(self.bytes(what)?))),
            2 => Value::Unsigned(u64::from(u16::from_le_bytes(self.bytes(what)?))),
            3 => Value::Signed(i64::from(i16::from_le_bytes(self.bytes(what)?))),
            4 => Value::Unsigned(u64::from(u32::from_le_bytes(self.bytes(what)?))),
            5 => Value::Signed(i64::from(i32::from_le_bytes(self.bytes(what)?))),
            6 => Value::Float(f64::from(f32::from_le_bytes(self.bytes(what)?))),
            7 => Value::Bool(self.bytes::<1>(what)?[0] != 0),
            8 => Value::String(self.text(what, MAX_TEXT_BYTES)?),
            9 => Value::Array(self.array(key)?),
            10 => Value::Unsigned(self.u64(what)?),
            11 => Value::Signed(i64::from_le_bytes(self.bytes(what)?)),
            12 => Value::Float(f64::from_le_bytes(self.bytes(what)?)),
            other => {
                return Err(self.malformed(format!("key `{key}` has unknown value type {other}")));
            }
        })
    }

    fn array(&mut self, key: &str) -> Result<Array, GgufError> {
        let type_id = self.u32(key)?;
        let count = self.u64(key)?;
        let smallest = match type_id {
            0 | 1 | 7 => 1,
            2 | 3 => 2,
            4..=6 => 4,
            8 | 10..=12 => 8,
            9 => {
                return Err(self.malformed(format!("key `{key}` holds an array of arrays")));
            }
            other => {
                return Err(self.malformed(format!("key `{key}` has unknown value type {other}")));
            }
        };
        self.expect_room(key, count, smallest)?;
        // Numbers have eight bytes in memory; texts are counted one by one.
        let each = match type_id {
            7 => 1,
            8 => 0,
            _ => 8,
        };
        self.take_memory(key, count.saturating_mul(each))?;
        let room = usize::try_from(count).unwrap_or(usize::MAX);
        let mut array = match type_id {
            6 | 12 => Array::Floats(Vec::with_capacity(room)),
            7 => Array::Bools(Vec::with_capacity(room)),
            8 => Array::Strings(TextList::default()),
            _ => Array::Integers(Vec::with_capacity(room)),
        };
        for _ in 0..count {
            let value = self.value(key, type_id)?;
            match (&mut array, value) {
                (Array::Floats(items), Value::Float(item)) => items.push(item),
                (Array::Bools(items), Value::Bool(item)) => items.push(item),
                (Array::Strings(items), Value::String(item)) => {
                    if !items.push(&item) {
                        let what = format!("key `{key}` holds more than 4 GiB of texts");
                        return Err(self.malformed(what));
                    }
                }
                (Array::Integers(items), Value::Signed(item)) => items.push(item),
                (Array::Integers(items), Value::Unsigned(item)) => {
                    items.push(i64::try_from(item).map_err(|_| {
                        self.malformed(format!("key `{key}` holds an integer beyond 63 bits"))
                    })?);
                }
                _ => unreachable!("an element has the kind its type id says"),
            }
        }
        Ok(array)
    }

    fn tensor(&mut self) -> Result<TensorInfo, GgufError> {
        self.take_memory("the tensor list", size_of::<TensorInfo>() as u64)?;
        let name = self.text("a tensor name", MAX_NAME_BYTES)?;
        let rank = self.u32("the rank of a tensor")?;
        if !(1..=4).contains(&rank) {
            return Err(GgufError::Tensor {
                tensor: name,
                what: format!("has {rank} dimensions; one to four are allowed"),
            });
        }
        let mut dimensions = Vec::with_capacity(4);
        for _ in 0..rank {
            dimensions.push(self.u64("a tensor's size")?);
        }
        let type_id = self.u32("a tensor's type")?;
        let offset = self.u64("a tensor's offset")?;
        TensorInfo::checked(name, dimensions, type_id, offset)
    }
}
