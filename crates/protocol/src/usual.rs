//! What programs usually write where they mean "as you like": negative numbers and nothing at all.

use serde::de::Error;
use serde::{Deserialize, Deserializer};
use serde_json::Number;

/// A whole number, or -1 where there is to be no limit.
pub(crate) fn limit<'de, D: Deserializer<'de>>(given: D) -> Result<Option<u32>, D::Error> {
    match Option::<Number>::deserialize(given)? {
        None => Ok(None),
        Some(number) if number.as_i64() == Some(-1) => Ok(None),
        Some(number) => whole(&number).map(Some).ok_or_else(|| {
            Error::custom(format!("{number} is not a whole number from 0, or -1 for no limit"))
        }),
    }
}

fn whole(number: &Number) -> Option<u32> {
    number.as_u64().and_then(|number| u32::try_from(number).ok())
}

/// Any whole number; a negative one is read as two's complement.
pub(crate) fn seed<'de, D: Deserializer<'de>>(given: D) -> Result<Option<u64>, D::Error> {
    let Some(number) = Option::<Number>::deserialize(given)? else {
        return Ok(None);
    };
    let seed = number.as_u64().or_else(|| number.as_i64().map(i64::cast_unsigned));
    seed.map(Some)
        .ok_or_else(|| Error::custom(format!("{number} is not a whole number of 64 bits")))
}

/// Yes or no; nothing is no.
pub(crate) fn yes<'de, D: Deserializer<'de>>(given: D) -> Result<bool, D::Error> {
    Ok(Option::deserialize(given)?.unwrap_or(false))
}

#[cfg(test)]
mod tests {
    use serde_json::{Value, json};

    use crate::chat::AnswerOptions;

    fn read(field: &str, value: &Value) -> Result<AnswerOptions, String> {
        let mut whole = json!({});
        whole[field] = value.clone();
        serde_json::from_value(whole).map_err(|error| error.to_string())
    }

    #[test]
    fn what_programs_usually_write_is_understood() {
        for field in ["max_tokens", "max_completion_tokens", "top_k"] {
            for none in [json!(-1), json!(null)] {
                let options = read(field, &none).unwrap();
                let limits = (options.max_tokens, options.max_completion_tokens, options.top_k);
                assert_eq!(limits, (None, None, None), "{field}: {none}");
            }
            for wrong in [json!(-2), json!(1.5), json!(5_000_000_000_u64)] {
                assert!(read(field, &wrong).unwrap_err().contains("-1 for no limit"), "{wrong}");
            }
        }
        assert_eq!(read("max_tokens", &json!(7)).unwrap().max_tokens, Some(7));
        assert_eq!(read("seed", &json!(-1)).unwrap().seed, Some(u64::MAX));
        assert_eq!(read("seed", &json!(u64::MAX)).unwrap().seed, Some(u64::MAX));
        assert!(read("seed", &json!(1e30)).unwrap_err().contains("64 bits"));
        let stream = read("stream_options", &json!({"include_usage": null})).unwrap();
        assert!(!stream.stream_options.unwrap().include_usage);
    }
}
