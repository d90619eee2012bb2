//! The sizes of a small model, for tests.

use crate::{Bytes, ModelShape};

/// Sizes similar to those of the larger demo model.
pub(crate) fn demo_shape() -> ModelShape {
    ModelShape {
        file: Bytes(1_993_568),
        layers: 5,
        layer_weights: vec![Bytes(200_000); 5],
        heads: 6,
        kv_heads: 2,
        key_length: 32,
        value_length: 32,
        context_length: 1024,
        vocabulary: 2048,
        width: 192,
        feed_forward: 320,
        experts: 0,
        experts_used: 0,
        floats: false,
        encoder: false,
        tokenizer: Bytes(400_000),
    }
}
