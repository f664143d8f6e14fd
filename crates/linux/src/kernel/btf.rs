//! The kernel's own type information: where a field of one of its structures is.
//!
//! `/sys/kernel/btf/vmlinux`; Documentation/bpf/btf.rst. Untrusted like any file: an offset is checked before it is used.

/// First number of the file.
const MAGIC: u16 = 0xeb9f;
/// Kinds of types; include/uapi/linux/btf.h.
const ARRAY: u32 = 3;
const STRUCT: u32 = 4;
const UNION: u32 = 5;
const ENUM: u32 = 6;
const TYPEDEF: u32 = 8;
const VOLATILE: u32 = 9;
const CONST: u32 = 10;
const RESTRICT: u32 = 11;
const FUNCTION: u32 = 12;
const TYPE_TAG: u32 = 18;
/// Depth of types within types that is followed; real ones stay far below.
const DEPTH: u32 = 32;

/// The type information of a kernel.
pub struct Btf {
    bytes: Vec<u8>,
    /// Where each type begins, by its number; that of nothing first.
    types: Vec<u32>,
    strings: usize,
    /// Structures, enumerations, functions and names of types of the names that were asked for, with their numbers.
    named: Vec<(u32, &'static str, u32)>,
}

/// A field of a structure.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Field {
    /// Bytes from the beginning of the structure.
    pub offset: i16,
}

impl Btf {
    /// Reads the file's content for structures, enumerations, functions and names of types that are called this; `None` where it is not whole.
    pub fn parse(bytes: Vec<u8>, names: &[&'static str]) -> Option<Btf> {
        let short = |at: usize| Some(u16::from_ne_bytes(bytes.get(at..at + 2)?.try_into().ok()?));
        let word = |at: usize| Some(u32::from_ne_bytes(bytes.get(at..at.checked_add(4)?)?.try_into().ok()?));
        if short(0)? != MAGIC {
            return None;
        }
        let header = word(4)? as usize;
        let begin = header.checked_add(word(8)? as usize)?;
        let end = begin.checked_add(word(12)? as usize)?;
        let strings = header.checked_add(word(16)? as usize)?;
        let (mut types, mut named, mut at) = (vec![0], vec![], begin);
        let mut asked = names.to_vec();
        asked.sort_unstable();
        while at < end {
            let (name, info) = (word(at)?, word(at + 4)?);
            let (kind, members) = (info >> 24 & 31, (info & 0xffff) as usize);
            if matches!(kind, STRUCT | ENUM | FUNCTION | TYPEDEF) {
                let text = bytes.get(strings.checked_add(name as usize)?..)?;
                let text = text.split(|byte| *byte == 0).next().unwrap_or_default();
                let name = asked.binary_search_by(|name| name.as_bytes().cmp(text));
                named.extend(name.map(|at| (kind, asked[at], types.len() as u32)));
            }
            types.push(u32::try_from(at).ok()?);
            at += 12
                + match kind {
                    1 | 14 | 17 => 4,
                    ARRAY => 12,
                    STRUCT | UNION | 15 | 19 => 12 * members,
                    ENUM | 13 => 8 * members,
                    _ => 0,
                };
        }
        Some(Btf { bytes, types, strings, named })
    }

    /// Number of the function of this name, by which a program is attached.
    pub fn function(&self, name: &str) -> Option<u32> {
        self.find(FUNCTION, name)
    }

    /// Number of the structure of this name.
    pub fn structure(&self, name: &str) -> Option<u32> {
        self.find(STRUCT, name)
    }

    /// Number of the type of a place where the kernel says that something happens, by which a program is attached; `name` as
    /// in `btf_trace_sched_process_exec`.
    pub fn tracepoint(&self, name: &str) -> Option<u32> {
        self.find(TYPEDEF, name)
    }

    /// The number that a name of an enumeration stands for.
    pub fn enumerator(&self, of: &str, name: &str) -> Option<u32> {
        let kind = self.find(ENUM, of)?;
        let count = (self.word(kind, 4)? & 0xffff) as usize;
        let at =
            (0..count).find(|at| self.word(kind, 12 + 8 * at).is_some_and(|of| self.is_named(of, name)))?;
        self.word(kind, 16 + 8 * at)
    }

    /// A field by its path, as in `se.sum_exec_runtime` or `pids[3]`; `None` where this kernel does not have it.
    pub fn field(&self, of: &str, path: &str) -> Option<Field> {
        let (mut kind, mut offset) = (self.find(STRUCT, of)?, 0usize);
        for step in path.split('.') {
            let (name, index) = match step.split_once('[') {
                Some((name, index)) => (name, Some(index.strip_suffix(']')?.parse::<usize>().ok()?)),
                None => (step, None),
            };
            let (at, found) = self.member(self.plain(kind)?, name, DEPTH)?;
            (kind, offset) = (found, offset.checked_add(at)?);
            if let Some(index) = index {
                let array = self.plain(kind)?;
                if self.kind(array)? != ARRAY || index >= self.word(array, 20)? as usize {
                    return None;
                }
                kind = self.word(array, 12)?;
                offset = offset.checked_add(index.checked_mul(self.size(kind, DEPTH)?)?)?;
            }
        }
        Some(Field { offset: i16::try_from(offset).ok()? })
    }

    /// Bytes of a structure.
    pub fn bytes(&self, of: &str) -> Option<usize> {
        self.size(self.find(STRUCT, of)?, DEPTH)
    }

    fn find(&self, kind: u32, name: &str) -> Option<u32> {
        self.named.iter().find(|(of, at, _)| *of == kind && *at == name).map(|(.., number)| *number)
    }

    fn is_named(&self, at: u32, name: &str) -> bool {
        self.bytes.get(self.strings.saturating_add(at as usize)..).is_some_and(|text| begins_with(text, name))
    }

    /// A number of a type's description, so many bytes from its beginning.
    fn word(&self, number: u32, from: usize) -> Option<u32> {
        let at = *self.types.get(number as usize).filter(|_| number > 0)? as usize + from;
        Some(u32::from_ne_bytes(self.bytes.get(at..at + 4)?.try_into().ok()?))
    }

    fn kind(&self, number: u32) -> Option<u32> {
        Some(self.word(number, 4)? >> 24 & 31)
    }

    /// The type without other names and qualities.
    fn plain(&self, mut number: u32) -> Option<u32> {
        for _ in 0..DEPTH {
            match self.kind(number)? {
                TYPEDEF | VOLATILE | CONST | RESTRICT | TYPE_TAG => number = self.word(number, 8)?,
                _ => return Some(number),
            }
        }
        None
    }

    fn size(&self, number: u32, depth: u32) -> Option<usize> {
        let number = self.plain(number)?;
        match self.kind(number)? {
            2 => Some(size_of::<u64>()),
            ARRAY if depth > 0 => {
                let of = self.size(self.word(number, 12)?, depth - 1)?;
                of.checked_mul(self.word(number, 20)? as usize)
            }
            ARRAY => None,
            _ => Some(self.word(number, 8)? as usize),
        }
    }

    /// Where a member of a structure is, and its type; those of unnamed structures within it are its own.
    fn member(&self, number: u32, name: &str, depth: u32) -> Option<(usize, u32)> {
        if depth == 0 || !matches!(self.kind(number)?, STRUCT | UNION) {
            return None;
        }
        let info = self.word(number, 4)?;
        for at in 0..(info & 0xffff) as usize {
            let (of, kind, bits) = (
                self.word(number, 12 + 12 * at)?,
                self.word(number, 16 + 12 * at)?,
                self.word(number, 20 + 12 * at)?,
            );
            // With this flag the upper eight bits are the width of a bit field.
            let (bits, wide) =
                if info >> 31 == 1 { (bits & 0x00ff_ffff, bits >> 24 == 0) } else { (bits, true) };
            let begin = bits as usize / 8;
            if of == 0 {
                let inside = self.plain(kind).and_then(|inside| self.member(inside, name, depth - 1));
                if let Some((more, kind)) = inside {
                    return Some((begin + more, kind));
                }
            } else if wide && bits % 8 == 0 && self.is_named(of, name) {
                return Some((begin, kind));
            }
        }
        None
    }
}

/// Whether the text up to its end is this name.
fn begins_with(text: &[u8], name: &str) -> bool {
    text.strip_prefix(name.as_bytes()).and_then(|rest| rest.first()) == Some(&0)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Type information being written.
    #[derive(Default)]
    struct Made {
        types: Vec<u8>,
        strings: Vec<u8>,
    }

    impl Made {
        fn text(&mut self, text: &str) -> u32 {
            if text.is_empty() {
                return 0;
            }
            let at = self.strings.len() as u32 + 1;
            self.strings.extend(text.bytes().chain([0]));
            at
        }

        fn put(&mut self, name: &str, kind: u32, members: u32, flag: bool, rest: &[u32]) {
            let name = self.text(name);
            let info = kind << 24 | members | u32::from(flag) << 31;
            self.types.extend([name, info].iter().chain(rest).flat_map(|word| word.to_ne_bytes()));
        }

        fn structure(&mut self, name: &str, kind: u32, size: u32, flag: bool, members: &[(&str, u32, u32)]) {
            let mut rest = vec![size];
            for (name, of, bits) in members {
                rest.extend([self.text(name), *of, *bits]);
            }
            self.put(name, kind, members.len() as u32, flag, &rest);
        }

        fn finish(self) -> Vec<u8> {
            let mut bytes = MAGIC.to_ne_bytes().to_vec();
            bytes.extend([1, 0]);
            let lengths =
                [24, 0, self.types.len() as u32, self.types.len() as u32, self.strings.len() as u32 + 1];
            bytes.extend(lengths.iter().flat_map(|word| word.to_ne_bytes()));
            bytes.extend(self.types);
            bytes.push(0);
            bytes.extend(self.strings);
            bytes
        }
    }

    fn made() -> Vec<u8> {
        let mut made = Made::default();
        made.put("long", 1, 0, false, &[8, 0]); // 1
        made.put("number", TYPEDEF, 0, false, &[1]); // 2
        made.put("", CONST, 0, false, &[2]); // 3
        made.put("", ARRAY, 0, false, &[0, 3, 1, 4]); // 4: four numbers
        made.structure("", UNION, 32, false, &[("whole", 4, 0), ("first", 2, 0)]); // 5
        made.structure("task", STRUCT, 56, false, &[("id", 1, 0), ("", 5, 64), ("last", 3, 320)]); // 6
        made.structure("bits", STRUCT, 16, true, &[("few", 1, 3 << 24), ("all", 1, 64)]); // 7
        made.structure("loop", STRUCT, 8, false, &[("", 8, 0)]); // 8: within itself
        made.put("walk", FUNCTION, 0, false, &[6]);
        let (first, second) = (made.text("first_id"), made.text("second_id"));
        made.put("id_of", ENUM, 2, false, &[4, first, 0, second, 7]);
        made.finish()
    }

    const ASKED: [&str; 5] = ["task", "bits", "loop", "walk", "id_of"];

    #[test]
    fn fields_are_found_in_unnamed_parts_in_arrays_and_behind_other_names() {
        let btf = Btf::parse(made(), &ASKED).expect("whole");
        let offset = |of, path| btf.field(of, path).map(|field| field.offset);
        assert_eq!(offset("task", "id"), Some(0));
        assert_eq!(offset("task", "first"), Some(8));
        assert_eq!(offset("task", "whole[3]"), Some(32));
        assert_eq!(offset("task", "last"), Some(40));
        assert_eq!(offset("bits", "all"), Some(8));
        assert_eq!((btf.bytes("task"), btf.function("walk")), (Some(56), Some(9)));
        let number = |of, name| btf.enumerator(of, name);
        assert_eq!((number("id_of", "second_id"), number("id_of", "third")), (Some(7), None));
        assert_eq!((number("task", "id"), number("none", "first_id")), (None, None));
        // What is not there, or is no place in memory.
        for path in ["none", "whole[4]", "id.more", "last[0]", "whole[x]", ""] {
            assert_eq!(offset("task", path), None, "{path}");
        }
        assert_eq!((offset("bits", "few"), offset("loop", "any"), offset("walk", "id")), (None, None, None));
    }

    #[test]
    fn broken_information_is_refused_or_misses_something() {
        let whole = made();
        let ask = |bytes: Vec<u8>| {
            let Some(btf) = Btf::parse(bytes, &ASKED) else { return };
            for path in ["id", "whole[3]", "first", "last"] {
                let _ = btf.field("task", path);
            }
            let _ = (btf.field("loop", "any"), btf.bytes("task"), btf.function("walk"));
            let _ = btf.enumerator("id_of", "second_id");
        };
        for cut in 0..whole.len() {
            ask(whole[..cut].to_vec());
        }
        for at in 0..whole.len() {
            for other in [0, 1, 0x7f, 0xff] {
                let mut bytes = whole.clone();
                bytes[at] = other;
                ask(bytes);
            }
        }
    }
}
