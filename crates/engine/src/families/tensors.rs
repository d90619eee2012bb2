//! Lookup of tensors, each with its required shape; unused tensors are refused.

use std::collections::HashSet;

use deft_formats::gguf::{Header, TensorInfo};
use deft_formats::quant::TensorType;
use deft_kernels::{Device, Matrix};

use super::home::Home;
use crate::load_error::LoadError;
use crate::mapped::Mapped;

/// A matrix of the file: `rows x columns`.
#[derive(Debug, Clone, Copy)]
pub(super) struct MatrixPlace {
    tensor_type: TensorType,
    rows: usize,
    columns: usize,
    part: usize,
    offset: u64,
    bytes: u64,
}

impl MatrixPlace {
    /// Its stored rows in the memory of a stage.
    pub(super) fn of<'a, H: Home>(&self, home: &'a H) -> Matrix<<H::Device as Device>::Stored<'a>> {
        Matrix {
            tensor_type: self.tensor_type,
            rows: self.rows,
            columns: self.columns,
            bytes: home.stored(self.part, self.offset, self.bytes),
        }
    }

    /// A part of the rows.
    pub(super) fn rows(&self, from: u32, rows: u32) -> Self {
        let row = self.tensor_type.row_bytes(self.columns) as u64;
        Self {
            rows: rows as usize,
            offset: self.offset + row * u64::from(from),
            bytes: row * u64::from(rows),
            ..*self
        }
    }

    /// Number of rows.
    pub(super) fn row_count(&self) -> usize {
        self.rows
    }

    /// Number of columns.
    pub(super) fn column_count(&self) -> usize {
        self.columns
    }

    /// A row as floats.
    pub(super) fn decode_row(&self, file: &Mapped, row: usize, out: &mut [f32]) {
        let width = self.tensor_type.row_bytes(self.columns);
        let stored = file.weights(self.part, self.offset, self.bytes).near();
        self.tensor_type.decode(&stored[row * width..][..width], out);
    }
}

/// A vector of the file; it is read as floats when the model is opened.
#[derive(Debug, Clone)]
pub(super) struct VectorPlace(TensorInfo);

impl VectorPlace {
    pub(super) fn load(&self, file: &Mapped) -> Result<Vec<f32>, LoadError> {
        let bytes = file.bytes(self.0.part, self.0.offset, self.0.bytes);
        let bytes = bytes.ok_or_else(|| LoadError::Tensor {
            tensor: self.0.name.clone(),
            what: "is no longer in the file, which was truncated".to_owned(),
        })?;
        let mut values = vec![0.0; bytes.len() / 4];
        self.0.tensor_type.decode(bytes, &mut values);
        Ok(values)
    }

    /// The same in the memory of a device.
    pub(super) fn load_to<D: Device>(
        &self,
        file: &Mapped,
        device: &D,
    ) -> Result<D::Numbers, LoadError> {
        let mut values = self.load(file)?;
        let mut numbers = device.room(0);
        device.put(&mut values, &mut numbers);
        Ok(numbers)
    }
}

/// Takes tensors from a header, each with its required shape. It knows which were taken, so that unknown tensors are refused
/// instead of ignored.
pub(super) struct Tensors<'h> {
    header: &'h Header,
    taken: HashSet<&'h str>,
}

impl<'h> Tensors<'h> {
    pub(super) fn new(header: &'h Header) -> Self {
        Self { header, taken: HashSet::new() }
    }

    pub(super) fn has(&self, name: &str) -> bool {
        self.header.tensor(name).is_some()
    }

    fn take(&mut self, name: &str, dimensions: &[u64]) -> Result<&'h TensorInfo, LoadError> {
        let wrong = |what: String| LoadError::Tensor { tensor: name.to_owned(), what };
        let tensor = self.header.tensor(name).ok_or_else(|| wrong("is missing".to_owned()))?;
        if tensor.dimensions != dimensions {
            let found = &tensor.dimensions;
            return Err(wrong(format!("has dimensions {found:?}, it must have {dimensions:?}")));
        }
        self.taken.insert(&tensor.name);
        Ok(tensor)
    }

    /// A matrix of `rows x columns`.
    pub(super) fn matrix(
        &mut self,
        name: &str,
        columns: u32,
        rows: u32,
    ) -> Result<MatrixPlace, LoadError> {
        let tensor = self.take(name, &[u64::from(columns), u64::from(rows)])?;
        Ok(MatrixPlace {
            tensor_type: tensor.tensor_type,
            rows: rows as usize,
            columns: columns as usize,
            part: tensor.part,
            offset: tensor.offset,
            bytes: tensor.bytes,
        })
    }

    /// Several matrices of `rows x columns` in one tensor, one after the other.
    pub(super) fn matrices(
        &mut self,
        name: &str,
        columns: u32,
        rows: u32,
        count: u32,
    ) -> Result<Vec<MatrixPlace>, LoadError> {
        let dimensions = [u64::from(columns), u64::from(rows), u64::from(count)];
        let tensor = self.take(name, &dimensions)?;
        let bytes = tensor.bytes / u64::from(count);
        let place = |at: u32| MatrixPlace {
            tensor_type: tensor.tensor_type,
            rows: rows as usize,
            columns: columns as usize,
            part: tensor.part,
            offset: tensor.offset + bytes * u64::from(at),
            bytes,
        };
        Ok((0..count).map(place).collect())
    }

    /// A vector of `length` single-precision values.
    pub(super) fn vector(&mut self, name: &str, length: u32) -> Result<VectorPlace, LoadError> {
        let tensor = self.take(name, &[u64::from(length)])?;
        if tensor.tensor_type != TensorType::F32 {
            return Err(LoadError::Tensor {
                tensor: name.to_owned(),
                what: format!("has type {}; vectors are F32", tensor.tensor_type),
            });
        }
        Ok(VectorPlace(tensor.clone()))
    }

    /// Refuses a file with unused tensors, because its results would be wrong.
    pub(super) fn finish(self) -> Result<(), LoadError> {
        let left = self.header.tensors.iter().find(|tensor| !self.taken.contains(&*tensor.name));
        match left {
            None => Ok(()),
            Some(tensor) => Err(LoadError::Tensor {
                tensor: tensor.name.clone(),
                what: "is not supported for this family, so results would be wrong".to_owned(),
            }),
        }
    }
}
