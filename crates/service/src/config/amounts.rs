//! Amounts of memory, shares and rates, as people write them.

use bytesize::ByteSize;
use deft_planning::Bytes;

use super::ConfigError;

/// Bytes a second of `20 MiB/s` or `20 MiB`; none is no rate.
#[must_use]
pub(crate) fn parse_rate(text: &str) -> Option<Bytes> {
    let text = text.trim();
    parse_amount(text.strip_suffix("/s").unwrap_or(text)).filter(|rate| rate.0 > 0)
}

/// A limit of a pool that has so much memory; `setting` is what errors call it.
///
/// # Errors
/// It is neither an amount nor a share, or more than there is.
pub(crate) fn limit(setting: &str, text: &str, usable: Bytes) -> Result<Bytes, ConfigError> {
    let limit = parse_limit(text, usable.0).ok_or_else(|| {
        let how = "write an amount such as `48 GiB` or a share such as `80 %`";
        ConfigError(format!("{setting} is `{text}`; {how}"))
    })?;
    if limit > usable {
        let what = format!(
            "{setting} is `{text}`, but only {usable} of memory can be used (all of it, or the limit of the \
             control group); write less, or a share such as `80 %`"
        );
        return Err(ConfigError(what));
    }
    Ok(limit)
}

/// Bytes of `48 GiB`, `1.5MiB` or `500 MB`; without a unit, bytes.
pub(super) fn parse_amount(text: &str) -> Option<Bytes> {
    text.trim().parse::<ByteSize>().ok().map(|amount| Bytes(amount.as_u64()))
}

/// An amount, or a share such as `80 %` of `whole` bytes.
fn parse_limit(text: &str, whole: u64) -> Option<Bytes> {
    let Some(share) = text.trim().strip_suffix('%') else { return parse_amount(text) };
    let share: f64 = share.trim().parse().ok()?;
    if !(0.0..=100.0).contains(&share) {
        return None;
    }
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_precision_loss,
        clippy::cast_sign_loss,
        reason = "a share of memory, which is far below 2^53 bytes"
    )]
    Some(Bytes((share * (whole as f64 / 100.0)) as u64))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_are_amounts_or_shares() {
        assert_eq!(parse_limit("80 %", 1000), Some(Bytes(800)));
        assert_eq!(parse_limit(" 80% ", 1000), Some(Bytes(800)));
        for (written, bytes) in [
            ("1.5MiB", 3 << 19),
            ("2 GB", 2_000_000_000),
            ("512", 512),
            ("\t1 KiB ", 1024),
            ("99999999999999999999 TiB", u64::MAX),
        ] {
            assert_eq!(parse_limit(written, 0), Some(Bytes(bytes)), "{written}");
        }
        for wrong in [
            "",
            "150 %",
            "-1 %",
            "NaN %",
            "-1 GiB",
            "1 shelf",
            "GiB",
            "80 % of it",
            "1e9",
            ".",
            "1.5.5 GiB",
            "５ GiB",
        ] {
            assert_eq!(parse_limit(wrong, 1000), None, "{wrong:?}");
        }
    }
}
