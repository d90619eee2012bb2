//! The layer of each tensor.

use deft_formats::gguf::Header;
use deft_planning::Bytes;

/// The layer of a tensor, from its name (`blk.7.attn_q.weight`).
pub(crate) fn layer_of(tensor: &str) -> Option<usize> {
    tensor.strip_prefix("blk.")?.split('.').next()?.parse().ok()
}

/// Stored bytes of each layer.
pub(crate) fn layer_weights(header: &Header, layers: u32) -> Vec<Bytes> {
    // Every layer has a tensor, so a file cannot claim more layers than it has tensors.
    let mut weights = vec![Bytes(0); header.tensors.len().min(layers as usize)];
    for tensor in &header.tensors {
        if let Some(layer) = layer_of(&tensor.name).and_then(|layer| weights.get_mut(layer)) {
            *layer += Bytes(tensor.bytes);
        }
    }
    weights
}
