//! `/proc/cpuinfo`; `proc_cpuinfo(5)`.

use super::lines;
use dozor_core::text::clean;

/// Model of the processor, where the kernel names one.
pub fn model(bytes: &[u8]) -> Option<String> {
    ["model name", "Model", "cpu model", "Hardware", "uarch"].iter().find_map(|wanted| {
        lines(bytes).find_map(|line| {
            let colon = line.iter().position(|byte| *byte == b':')?;
            let (name, value) = (line[..colon].trim_ascii(), line[colon + 1..].trim_ascii());
            (name == wanted.as_bytes() && !value.is_empty()).then(|| clean(value))
        })
    })
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_model_is_found_on_several_architectures() {
        assert_eq!(super::model(b"processor\t: 0\nmodel name\t: Fast 9000\n").as_deref(), Some("Fast 9000"));
        assert_eq!(super::model(b"processor : 0\nModel : Board 4\n").as_deref(), Some("Board 4"));
        assert_eq!(super::model(b"processor : 0\n"), None);
    }
}
