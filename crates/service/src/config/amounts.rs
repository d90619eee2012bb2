//! Amounts and rates as they are written.

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

pub(super) fn parse_amount(text: &str) -> Option<Bytes> {
    parse_limit(text, 0).filter(|_| !text.contains('%'))
}

fn parse_limit(text: &str, machine: u64) -> Option<Bytes> {
    let text = text.trim();
    let digits = text.find(|letter: char| !letter.is_ascii_digit() && letter != '.');
    let (number, unit) = text.split_at(digits.unwrap_or(text.len()));
    let number: f64 = number.parse().ok()?;
    #[expect(clippy::cast_precision_loss, reason = "memory is far below 2^53 bytes")]
    let factor = match unit.trim() {
        "" | "B" => 1.0,
        "KiB" => 1024.0,
        "MiB" => 1024.0 * 1024.0,
        "GiB" => 1024.0 * 1024.0 * 1024.0,
        "TiB" => 1024.0 * 1024.0 * 1024.0 * 1024.0,
        "%" if number <= 100.0 => machine as f64 / 100.0,
        _ => return None,
    };
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "parsed as positive"
    )]
    Some(Bytes((number * factor) as u64))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_are_amounts_or_shares() {
        assert_eq!(parse_limit("80 %", 1000), Some(Bytes(800)));
        assert_eq!(parse_limit("1.5MiB", 0), Some(Bytes(3 << 19)));
        for wrong in ["", "150 %", "-1 GiB", "1 GB", "GiB"] {
            assert_eq!(parse_limit(wrong, 1000), None, "{wrong:?}");
        }
    }
}
