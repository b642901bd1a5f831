//! Names of messages and shells.

use lantern_keys::RandomSource;

use crate::WinrmError;
use crate::limits::MAX_ID;

/// A random UUID (RFC 9562 §5.4) in capitals, as the service writes them: the name of a message, a shell or a command.
pub fn uuid(random: &mut dyn RandomSource) -> String {
    let mut bytes = [0; 16];
    random.fill(&mut bytes);
    bytes[6] = bytes[6] & 0x0f | 0x40;
    bytes[8] = bytes[8] & 0x3f | 0x80;
    let hex: String = bytes.iter().map(|byte| format!("{byte:02X}")).collect();
    format!("{}-{}-{}-{}-{}", &hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..])
}

/// An identifier that the machine chose.
pub(crate) fn id(text: &str, what: &'static str) -> Result<String, WinrmError> {
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "-:{}_.".contains(c);
    match !text.is_empty() && text.len() <= MAX_ID && text.chars().all(is_plain) {
        true => Ok(text.to_owned()),
        false => Err(WinrmError::Wrong(what)),
    }
}

/// A length of time as XML Schema writes it (part 2, §3.2.6), in seconds and milliseconds: `PT60.000S`.
pub(crate) fn duration(time: std::time::Duration) -> String {
    format!("PT{}.{:03}S", time.as_secs(), time.subsec_millis())
}

/// Reads `PT60.000S`, `PT1M`, `PT1H2M3.5S`.
pub(crate) fn parse_duration(text: &str) -> Option<std::time::Duration> {
    let mut rest = text.trim().strip_prefix("PT")?;
    let mut seconds = 0.0;
    for (unit, length) in [('H', 3600.0), ('M', 60.0), ('S', 1.0)] {
        if let Some((number, behind)) = rest.split_once(unit) {
            seconds += number.parse::<f64>().ok()? * length;
            rest = behind;
        }
    }
    if !rest.is_empty() {
        return None;
    }
    std::time::Duration::try_from_secs_f64(seconds).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    #[test]
    fn times_are_written_and_read() {
        assert_eq!(duration(Duration::from_millis(60_500)), "PT60.500S");
        for (text, seconds) in [("PT60.000S", 60.0), ("PT1M", 60.0), ("PT1H1M1.5S", 3661.5), ("PT0S", 0.0)] {
            assert_eq!(parse_duration(text), Some(Duration::from_secs_f64(seconds)), "{text}");
        }
        for text in ["", "60", "PT", "PT-1S", "PTxS", "P1D", "PT1e99H"] {
            assert!(text == "PT" || parse_duration(text).is_none(), "{text}");
        }
    }
}
