//! Instructions for the kernel's own machine, put together here; Documentation/bpf/standardization/instruction-set.rst.

/// A register. `R0` has what a call gives, `R1` to `R4` its arguments; `R6` to `R9` outlive it, `FP` is the end of the stack.
#[derive(Clone, Copy)]
#[allow(missing_docs, reason = "they are numbered")]
pub enum Register {
    R0,
    R1,
    R2,
    R3,
    R4,
    R6 = 6,
    R7,
    R8,
    R9,
    FP,
}

/// How many bytes are loaded or stored.
#[derive(Clone, Copy)]
#[allow(missing_docs, reason = "the names say it")]
pub enum Width {
    Two,
    Four,
    Eight,
}

impl Width {
    /// In an opcode.
    fn bits(self) -> u8 {
        match self {
            Width::Four => 0x00,
            Width::Two => 0x08,
            Width::Eight => 0x18,
        }
    }
}

/// What two numbers of 64 bits are made into.
#[derive(Clone, Copy)]
#[allow(missing_docs, reason = "the names say it")]
pub enum Operation {
    Add = 0x00,
    Subtract = 0x10,
    And = 0x50,
    ShiftLeft = 0x60,
    ShiftRight = 0x70,
    Or = 0x40,
    Xor = 0xa0,
    Set = 0xb0,
    /// Keeps the sign.
    ShiftArithmetic = 0xc0,
}

/// When a jump is taken.
#[derive(Clone, Copy)]
#[allow(missing_docs, reason = "the names say it")]
pub enum When {
    Equal = 0x10,
    Different = 0x50,
    /// As numbers without sign.
    AtLeast = 0x30,
    /// As numbers without sign.
    Below = 0xa0,
}

/// The kernel's functions that are called; include/uapi/linux/bpf.h.
#[derive(Clone, Copy)]
#[allow(missing_docs, reason = "named as there")]
pub enum Helper {
    MapLookupElem = 1,
    MapUpdateElem = 2,
    MapDeleteElem = 3,
    KtimeGetNs = 5,
    GetCurrentPidTgid = 14,
    GetSocketCookie = 46,
    ProbeReadUser = 112,
    ProbeReadKernel = 113,
    KtimeGetBootNs = 125,
    SeqWrite = 127,
    RingbufReserve = 131,
    RingbufSubmit = 132,
    RingbufQuery = 134,
    GetCurrentTaskBtf = 158,
    MapLookupPercpuElem = 195,
}

/// A place to jump to.
#[derive(Clone, Copy)]
pub struct Label(usize);

/// Instructions as they are put together.
#[derive(Default)]
pub struct Code {
    instructions: Vec<u64>,
    labels: Vec<Option<usize>>,
    jumps: Vec<(usize, Label)>,
}

const IMMEDIATE: u8 = 0x00;
const REGISTER: u8 = 0x08;

impl Code {
    fn push(&mut self, opcode: u8, to: Register, from: u8, offset: i16, immediate: i32) -> &mut Code {
        let registers = u64::from(from << 4 | to as u8);
        self.instructions.push(
            u64::from(opcode)
                | registers << 8
                | u64::from(offset as u16) << 16
                | u64::from(immediate as u32) << 32,
        );
        self
    }

    /// A place that is not known yet.
    pub fn label(&mut self) -> Label {
        self.labels.push(None);
        Label(self.labels.len() - 1)
    }

    /// The place is here.
    pub fn here(&mut self, label: Label) -> &mut Code {
        self.labels[label.0] = Some(self.instructions.len());
        self
    }

    pub fn load(&mut self, width: Width, to: Register, from: Register, offset: i16) -> &mut Code {
        self.push(0x61 | width.bits(), to, from as u8, offset, 0)
    }

    pub fn store(&mut self, width: Width, to: Register, offset: i16, from: Register) -> &mut Code {
        self.push(0x63 | width.bits(), to, from as u8, offset, 0)
    }

    /// Stores a number.
    pub fn put(&mut self, width: Width, to: Register, offset: i16, number: i32) -> &mut Code {
        self.push(0x62 | width.bits(), to, 0, offset, number)
    }

    /// Adds a number of 64 bits to one in memory, which others may add to at the same time.
    pub fn add_to(&mut self, to: Register, offset: i16, from: Register) -> &mut Code {
        self.push(0xdb, to, from as u8, offset, 0)
    }

    pub fn number(&mut self, operation: Operation, to: Register, number: i32) -> &mut Code {
        self.push(0x07 | operation as u8 | IMMEDIATE, to, 0, 0, number)
    }

    pub fn register(&mut self, operation: Operation, to: Register, from: Register) -> &mut Code {
        self.push(0x07 | operation as u8 | REGISTER, to, from as u8, 0, 0)
    }

    /// Multiplies by a number, in 32 bits.
    pub fn times(&mut self, to: Register, number: i32) -> &mut Code {
        self.push(0x24, to, 0, 0, number)
    }

    /// The difference in 32 bits.
    pub fn minus(&mut self, to: Register, from: Register) -> &mut Code {
        self.push(0x1c, to, from as u8, 0, 0)
    }

    pub fn jump(&mut self, label: Label) -> &mut Code {
        self.jumps.push((self.instructions.len(), label));
        self.push(0x05, Register::R0, 0, 0, 0)
    }

    pub fn jump_if(&mut self, register: Register, when: When, number: i32, label: Label) -> &mut Code {
        self.jumps.push((self.instructions.len(), label));
        self.push(0x05 | when as u8 | IMMEDIATE, register, 0, 0, number)
    }

    pub fn jump_if_register(
        &mut self,
        one: Register,
        when: When,
        other: Register,
        label: Label,
    ) -> &mut Code {
        self.jumps.push((self.instructions.len(), label));
        self.push(0x05 | when as u8 | REGISTER, one, other as u8, 0, 0)
    }

    pub fn call(&mut self, helper: Helper) -> &mut Code {
        self.push(0x85, Register::R0, 0, 0, helper as i32)
    }

    /// Calls a function of the kernel's own, by its number among the kernel's types.
    pub fn call_kernel(&mut self, function: u32) -> &mut Code {
        self.push(0x85, Register::R0, 2, 0, function as i32)
    }

    /// The address of a byte in the only value of a map.
    pub fn value(&mut self, to: Register, descriptor: i32, byte: i32) -> &mut Code {
        self.push(0x18, to, 2, 0, descriptor).push(0, Register::R0, 0, 0, byte)
    }

    /// A map, by its descriptor.
    pub fn map(&mut self, to: Register, descriptor: i32) -> &mut Code {
        self.push(0x18, to, 1, 0, descriptor).push(0, Register::R0, 0, 0, 0)
    }

    /// Ends the program with this result.
    pub fn end(&mut self, result: i32) -> &mut Code {
        self.number(Operation::Set, Register::R0, result).push(0x95, Register::R0, 0, 0, 0)
    }

    /// The instructions, with the jumps filled in.
    pub fn finish(mut self) -> Vec<u64> {
        for (at, label) in &self.jumps {
            let place = self.labels[label.0].expect("every label that is jumped to was put somewhere");
            let distance = place as i64 - *at as i64 - 1;
            let distance = i16::try_from(distance).expect("the program is short") as u16;
            self.instructions[*at] |= u64::from(distance) << 16;
        }
        self.instructions
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn instructions_are_encoded_as_the_standard_says() {
        let mut code = Code::default();
        let out = code.label();
        code.load(Width::Eight, Register::R7, Register::R1, 8)
            .jump_if(Register::R7, When::Equal, 0, out)
            .register(Operation::Add, Register::R8, Register::R9)
            .map(Register::R1, 5)
            .here(out)
            .end(0);
        // One byte of opcode, two registers (source above destination), 16 bits of offset, 32 of number.
        let expected: [u64; 7] = [
            0x0000_0000_0008_1779,
            0x0000_0000_0003_0715,
            0x0000_0000_0000_980f,
            0x0000_0005_0000_1118,
            0x0000_0000_0000_0000,
            0x0000_0000_0000_00b7,
            0x0000_0000_0000_0095,
        ];
        assert_eq!(code.finish(), expected);
    }
}
