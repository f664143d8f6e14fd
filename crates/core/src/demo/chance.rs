//! Repeatable chance: numbers that look random and depend on nothing but their arguments.

/// Mixes bits (the finaliser of splitmix64).
fn mix(mut x: u64) -> u64 {
    x = (x ^ x >> 30).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    x = (x ^ x >> 27).wrapping_mul(0x94d0_49bb_1331_11eb);
    x ^ x >> 31
}

/// A number from 0 up to, not including, 1.
pub fn share(seed: u64, who: u64, when: u64) -> f64 {
    let bits = mix(seed ^ mix(who.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ mix(when.wrapping_add(0x632b_e59b))));
    (bits >> 11) as f64 / (1u64 << 53) as f64
}

/// Slow waves and a little noise around 1: what a load looks like that does nothing special.
pub fn liveliness(seed: u64, who: u64, seconds: f64) -> f64 {
    let phase = share(seed, who, 0) * 6.3;
    let wave = (seconds / 23.0 + phase).sin() * 0.12 + (seconds / 7.0 + phase * 2.0).sin() * 0.08;
    (1.0 + wave + (share(seed, who, (seconds * 10.0) as i64 as u64) - 0.5) * 0.3).max(0.0)
}
