//! Buffers of a step.

use super::{LoadSettings, ModelShape};
use crate::Bytes;

/// Most rows that a thread multiplies at once with tiles; without tiles, 16.
const ROWS: u64 = 32;
/// Most rows whose sixteen partial sums are stored if inputs are wider than [`SUMMED_AT_ONCE`].
const ROWS_ASIDE: u64 = 8;
/// Inputs up to this width are summed without storing partial sums.
const SUMMED_AT_ONCE: u64 = 6 * 512;
/// Number of threads in plans without a number.
const USUAL_THREADS: u32 = 4;

/// Number of tokens of a span of attention.
pub const SPAN_TOKENS: u32 = 1024;
/// Most rows of queries whose spans are computed separately.
const SPAN_ROWS: u64 = 256;

/// Number of floats of the partial sums of spans: for each query head of each lane and each span, a value and sixteen floats.
fn spans_aside(shape: &ModelShape, settings: &LoadSettings) -> u64 {
    let spans = u64::from(settings.context.div_ceil(SPAN_TOKENS));
    if shape.encoder || spans < 2 {
        return 0;
    }
    let rows = (u64::from(shape.heads) * u64::from(settings.lanes)).min(SPAN_ROWS);
    (rows * spans).saturating_mul(u64::from(shape.value_length).next_multiple_of(16) + 16)
}

/// Number of floats of the buffers of a step with a chunk and one token of each lane. For each token: three rows of the model's
/// width (state, norm, wanted states); queries, keys, values and heads; two rows of the feed-forward width; angles of up to two
/// rotary embeddings and those of the next step; with experts, a row of the width, an output of each used expert, and the
/// router's; the widest input in the form of products (floats, eight bits with 832 bytes for 512 values, or BF16, whichever is
/// largest). In addition, the partial sums of each thread; for one token of each lane, logits and the input of the output
/// matrix; and [`spans_aside`].
pub(super) fn step_buffers(shape: &ModelShape, settings: &LoadSettings) -> Bytes {
    let heads = u64::from(shape.heads);
    let queries = heads * u64::from(shape.key_length);
    let outputs = heads * u64::from(shape.value_length);
    let pair = u64::from(shape.key_length) + u64::from(shape.value_length);
    let keys = u64::from(shape.kv_heads).saturating_mul(pair);
    let feed_forward = u64::from(shape.feed_forward);
    let widest = feed_forward.max(outputs).max(u64::from(shape.width));
    let threads = u64::from(settings.threads.unwrap_or(USUAL_THREADS));
    let input = |width: u64| {
        let rounded = (width.div_ceil(512) * 832 / 4).max(width.div_ceil(32) * 16);
        if shape.floats { width.next_multiple_of(16) } else { rounded }
    };
    let states = if shape.experts > 0 { 4 } else { 3 } * u64::from(shape.width);
    let angles = 3 * u64::from(shape.key_length);
    let per_token =
        keys.saturating_add(states + queries + outputs + 2 * feed_forward).saturating_add(angles);
    // The results of the experts, and the chosen experts.
    let used = u64::from(shape.experts_used);
    let per_token = per_token
        .saturating_add(used.saturating_mul(u64::from(shape.width) + 4))
        .saturating_add(shape.experts.into());
    let sums = if widest > SUMMED_AT_ONCE { ROWS_ASIDE * 16 } else { ROWS };
    let per_token = per_token.saturating_add(input(widest) + sums.saturating_mul(threads));
    let aside = spans_aside(shape, settings);
    let logits = 2 * u64::from(shape.vocabulary) + input(shape.width.into());
    let logits = logits * u64::from(settings.lanes);
    let tokens = settings.step_tokens(shape);
    let rows = u64::from(tokens).saturating_mul(per_token);
    // The router's rows as floats, if they are not stored as floats.
    let router = u64::from(shape.experts).saturating_mul(shape.width.into());
    let values =
        rows.saturating_add(router).saturating_add(logits + u64::from(settings.context) + aside);
    Bytes(values.saturating_mul(4))
}
