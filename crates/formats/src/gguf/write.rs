//! The writer: version 3, little-endian, tensors aligned to 32 bytes.

use std::io::{self, Write};

use super::{Array, Value};
use crate::quant::TensorType;

const ALIGNMENT: u64 = 32;

/// A tensor to write.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TensorPlan {
    /// Name, unique in the file.
    pub name: String,
    /// One to four dimensions, the fastest first.
    pub dimensions: Vec<u64>,
    /// The type of its values.
    pub tensor_type: TensorType,
}

impl TensorPlan {
    /// Length in bytes; rows must be whole blocks.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        let values: u64 = self.dimensions.iter().product();
        values / self.tensor_type.block_values() as u64 * self.tensor_type.block_bytes() as u64
    }
}

/// Writes a file: metadata, the list of tensors, then the data of each, which `data` writes.
///
/// # Errors
/// The target refuses, or the data of a tensor has another length than its plan.
pub fn write<W: Write>(
    target: W,
    metadata: &[(&str, Value)],
    tensors: &[TensorPlan],
    mut data: impl FnMut(&TensorPlan, &mut dyn Write) -> io::Result<()>,
) -> io::Result<()> {
    let mut out = Counted { target, written: 0 };
    out.write_all(b"GGUF")?;
    out.write_all(&3u32.to_le_bytes())?;
    out.write_all(&(tensors.len() as u64).to_le_bytes())?;
    out.write_all(&(metadata.len() as u64).to_le_bytes())?;
    for (key, value) in metadata {
        text(&mut out, key)?;
        write_value(&mut out, value)?;
    }
    let mut offset = 0;
    for tensor in tensors {
        text(&mut out, &tensor.name)?;
        let rank = u32::try_from(tensor.dimensions.len()).map_err(io::Error::other)?;
        out.write_all(&rank.to_le_bytes())?;
        tensor.dimensions.iter().try_for_each(|size| out.write_all(&size.to_le_bytes()))?;
        out.write_all(&tensor.tensor_type.id().to_le_bytes())?;
        out.write_all(&u64::to_le_bytes(offset))?;
        offset += tensor.bytes().next_multiple_of(ALIGNMENT);
    }
    out.pad()?;
    for tensor in tensors {
        let before = out.written;
        data(tensor, &mut out)?;
        let written = out.written - before;
        if written != tensor.bytes() {
            let what = format!("tensor `{}` has {written} bytes of data", tensor.name);
            return Err(io::Error::other(what));
        }
        out.pad()?;
    }
    out.flush()
}

/// Counts the written bytes, for padding.
struct Counted<W> {
    target: W,
    written: u64,
}

impl<W: Write> Counted<W> {
    fn pad(&mut self) -> io::Result<()> {
        let gap = self.written.next_multiple_of(ALIGNMENT) - self.written;
        self.write_all(&[0; ALIGNMENT as usize][..usize::try_from(gap).unwrap_or(0)])
    }
}

impl<W: Write> Write for Counted<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let count = self.target.write(bytes)?;
        self.written += count as u64;
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.target.flush()
    }
}

fn text(out: &mut impl Write, text: &str) -> io::Result<()> {
    out.write_all(&(text.len() as u64).to_le_bytes())?;
    out.write_all(text.as_bytes())
}

/// Writes a value after its type. Integers have 32 bits if they fit, floats have 32 bits.
fn write_value(out: &mut impl Write, value: &Value) -> io::Result<()> {
    let kind = |out: &mut dyn Write, id: u32| out.write_all(&id.to_le_bytes());
    match value {
        Value::Unsigned(count) => match u32::try_from(*count) {
            Ok(count) => kind(out, 4).and_then(|()| out.write_all(&count.to_le_bytes())),
            Err(_) => kind(out, 10).and_then(|()| out.write_all(&count.to_le_bytes())),
        },
        Value::Signed(count) => kind(out, 11).and_then(|()| out.write_all(&count.to_le_bytes())),
        Value::Float(number) => {
            #[expect(clippy::cast_possible_truncation, reason = "files keep 32 bits of these")]
            let number = *number as f32;
            kind(out, 6).and_then(|()| out.write_all(&number.to_le_bytes()))
        }
        Value::Bool(flag) => kind(out, 7).and_then(|()| out.write_all(&[u8::from(*flag)])),
        Value::String(string) => kind(out, 8).and_then(|()| text(out, string)),
        Value::Array(array) => {
            kind(out, 9)?;
            write_array(out, array)
        }
    }
}

fn write_array(out: &mut impl Write, array: &Array) -> io::Result<()> {
    let (id, length) = (
        match array {
            Array::Integers(_) => 11u32,
            Array::Floats(_) => 6,
            Array::Bools(_) => 7,
            Array::Strings(_) => 8,
        },
        array.len() as u64,
    );
    out.write_all(&id.to_le_bytes())?;
    out.write_all(&length.to_le_bytes())?;
    match array {
        Array::Integers(items) => {
            items.iter().try_for_each(|item| out.write_all(&item.to_le_bytes()))
        }
        Array::Floats(items) => items.iter().try_for_each(|item| {
            #[expect(clippy::cast_possible_truncation, reason = "files keep 32 bits of these")]
            let item = *item as f32;
            out.write_all(&item.to_le_bytes())
        }),
        Array::Bools(items) => items.iter().try_for_each(|item| out.write_all(&[u8::from(*item)])),
        Array::Strings(items) => items.iter().try_for_each(|item| text(out, item)),
    }
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;

    use super::*;
    use crate::gguf::Header;

    fn plan(name: &str, dimensions: &[u64], tensor_type: TensorType) -> TensorPlan {
        TensorPlan { name: name.to_owned(), dimensions: dimensions.to_vec(), tensor_type }
    }

    #[test]
    fn what_is_written_is_read_back() {
        let metadata = [
            ("general.architecture", Value::String("llama".to_owned())),
            ("llama.block_count", Value::Unsigned(2)),
            ("large", Value::Unsigned(1 << 40)),
            ("below", Value::Signed(-3)),
            ("share", Value::Float(0.5)),
            ("flag", Value::Bool(true)),
            ("texts", Value::Array(Array::Strings(["bean", ""].into_iter().collect()))),
            ("kinds", Value::Array(Array::Integers(vec![1, -2]))),
            ("scores", Value::Array(Array::Floats(vec![0.25]))),
            ("flags", Value::Array(Array::Bools(vec![true, false]))),
        ];
        let tensors = [
            plan("a", &[32, 3], TensorType::Q8_0),
            plan("b", &[5], TensorType::F32),
            plan("c", &[256, 2], TensorType::Q4_K),
        ];
        let mut file = Vec::new();
        let fill = |tensor: &TensorPlan, out: &mut dyn Write| {
            let byte = tensor.name.as_bytes()[0];
            out.write_all(&vec![byte; usize::try_from(tensor.bytes()).unwrap()])
        };
        write(&mut file, &metadata, &tensors, fill).unwrap();
        let header = Header::read(Cursor::new(&file), file.len() as u64).unwrap();
        for (key, value) in &metadata {
            assert_eq!(header.metadata.get(key), Some(value), "{key}");
        }
        assert_eq!(header.tensors.len(), 3);
        for (tensor, plan) in header.tensors.iter().zip(&tensors) {
            assert_eq!((&tensor.name, &tensor.dimensions), (&plan.name, &plan.dimensions));
            let start = usize::try_from(tensor.offset).unwrap();
            let data = &file[start..start + usize::try_from(tensor.bytes).unwrap()];
            assert!(data.iter().all(|byte| *byte == plan.name.as_bytes()[0]));
        }
    }

    #[test]
    fn data_of_another_length_is_an_error() {
        let tensors = [plan("a", &[32], TensorType::F32)];
        let error = write(Vec::new(), &[], &tensors, |_, out| out.write_all(&[0; 5])).unwrap_err();
        assert!(error.to_string().contains("tensor `a` has 5 bytes"), "{error}");
    }
}
