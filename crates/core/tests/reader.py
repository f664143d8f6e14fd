"""Reads a Dozor recording by docs/recording-format.md alone: prints the times, the system's numbers, who ended and the processes.

Usage: python3 reader.py FILE   (needs the Zstandard library libzstd.so.1, which every Debian has)
"""
import ctypes, json, struct, sys

zstd = ctypes.CDLL("libzstd.so.1")
zstd.ZSTD_createDStream.restype = ctypes.c_void_p
class Buffer(ctypes.Structure):
    _fields_ = [("data", ctypes.c_void_p), ("size", ctypes.c_size_t), ("pos", ctypes.c_size_t)]

class Stream:
    def __init__(self):
        self.context = ctypes.c_void_p(zstd.ZSTD_createDStream())
    def unpack(self, packed):
        source, room, out = ctypes.create_string_buffer(packed, len(packed)), ctypes.create_string_buffer(1 << 17), b""
        given = Buffer(ctypes.addressof(source), len(packed), 0)
        while True:
            taken = Buffer(ctypes.addressof(room), len(room), 0)
            assert ctypes.c_ssize_t(zstd.ZSTD_decompressStream(self.context, ctypes.byref(taken), ctypes.byref(given))).value >= 0
            out += room.raw[: taken.pos]
            if given.pos == given.size and taken.pos < taken.size:
                return out

class Coded:
    """Symbols that take as much as they are unlikely, since version 5."""
    def __init__(self, data):
        self.data, self.at, self.point, self.range = data, 4, int.from_bytes((data + bytes(4))[:4], "big"), 0xFFFFFFFF
    def take(self, begin, length):
        self.point, self.range = self.point - begin, length
        while self.range < 1 << 24:
            following = self.data[self.at] if self.at < len(self.data) else 0
            self.point, self.range, self.at = self.point << 8 | following, self.range << 8, self.at + 1
    def even(self, of):
        unit = self.range // of
        symbol = self.point // unit
        assert symbol < of
        self.take(symbol * unit, unit)
        return symbol

class Model:
    def __init__(self):
        self.known, self.sum = [], 0
    def take(self, coded, new):
        unit, begin = coded.range // (self.sum + 1), 0
        for at, (symbol, times) in enumerate(self.known):
            if coded.point < begin + times * unit:
                coded.take(begin, times * unit)
                self.known[at][1] += 1
                if at and self.known[at - 1][1] < times + 1:
                    self.known[at - 1], self.known[at] = self.known[at], self.known[at - 1]
                self.counted()
                return symbol
            begin += times * unit
        assert coded.point < begin + unit
        coded.take(begin, unit)
        symbol = new(coded)
        if len(self.known) < 256:
            self.known.append([symbol, 1])
            self.counted()
        return symbol
    def counted(self):
        self.sum += 1
        if self.sum == 8192:
            self.known = [[symbol, (times + 1) // 2] for symbol, times in self.known]
            self.sum = sum(times for _, times in self.known)

class Models(dict):
    """A model for each place, made when it is needed."""
    def model(self, *place):
        return self.setdefault(place, Model())
    def byte(self, coded, *place):
        return self.model(*place).take(coded, lambda coded: coded.even(256))
    def varint(self, coded, *place):
        value = shift = 0
        while True:
            byte = self.byte(coded, *place, "first" if shift == 0 else "further")
            value |= (byte & 127) << shift
            shift += 7
            if byte < 128:
                return value
    def count(self, coded, *place):
        return self.model(*place).take(coded, lambda coded: self.varint(coded, *place))
    def text(self, coded, column, newest):
        back = lambda coded: (lambda back: newest + 1 - back if back else 0)(self.varint(coded, "text", column))
        return self.model("text", column).take(coded, back)
    def map(self, coded, columns, kind):
        eight = lambda coded: sum(self.byte(coded, "map", kind, at) << 8 * at for at in range((columns + 7) // 8))
        return self.model("map", kind).take(coded, eight)

class Input:
    def __init__(self, data, bits, coded=None):
        self.data, self.at, self.bits, self.used = data, 0, int.from_bytes(bits, "little"), 0
        self.coded = None if coded is None else Coded(coded)
    def byte(self):
        self.at += 1
        return self.data[self.at - 1]
    def varint(self):
        value = shift = 0
        while True:
            byte = self.byte()
            value |= (byte & 127) << shift
            shift += 7
            if byte < 128:
                return value
    def count(self, models, *place):
        return models.count(self.coded, *place) if self.coded else self.varint()
    def steps(self, models, what):
        indexes, following = [], 0
        for _ in range(self.count(models, what, "count")):
            indexes.append(following + self.count(models, what, "step"))
            following = indexes[-1] + 1
        return indexes
    def number(self, base, models, column, changed):
        code = models.byte(self.coded, column, changed) if self.coded else self.byte()
        if code < 2:
            return ("absent", "denied")[code]
        page, code = (4096, code - 198) if code >= 198 else (1, code - 2)
        size, negative = code // 2, code % 2
        if size < 8:
            magnitude = size
        else:
            digits, high, known = (4 + (size - 8) // 2, 2 | (size - 8) % 2, 2) if size < 66 else (size - 33, 1, 1)
            below = digits - known
            magnitude = high << below | (self.bits >> self.used) & ((1 << below) - 1)
            self.used += below
        value = (base if isinstance(base, int) else 0) + (-magnitude if negative else magnitude) * page
        return (value + 2**63) % 2**64 - 2**63
    def text(self, texts, models, column):
        number = models.text(self.coded, column, len(texts)) if self.coded else self.varint()
        if number == 0:
            length = self.varint()
            texts.append(self.data[self.at : self.at + length].decode())
            self.at += length
        return texts[number - 1]

IDENTITY = dict.fromkeys(["disk", "interface", "sensor", "battery", "gpu"], "name") | {
    "system": "", "core": "number", "interrupt": "source core", "softirq": "kind core", "filesystem": "mount",
    "remote": "mount", "group": "path", "listener": "cookie", "removed": "pid descriptor path", "transfer": "pid number",
    "connection": "cookie", "ended": "order pid", "thread": "tid start_ticks", "process": "pid start_ticks"}

class Table:
    def __init__(self, group):
        self.name, self.texts, self.fields = group["name"], group["texts"], group["fields"]
        self.columns = [text["name"] for text in self.texts] + [field["name"] for field in self.fields]
        self.clear()
    def clear(self):
        self.rows, self.added, self.named = [], [""] * len(self.texts) + ["absent"] * len(self.fields), {}
        self.models = Models()
        self.served = {field["name"]: [0, 1, 1] if field["kind"] == "level" else [1, 0, 1] for field in self.fields}
    def change(self, data, texts):
        models = self.models
        for index in reversed(data.steps(models, "removed")):
            del self.rows[index]
        rows = [self.rows[index] for index in data.steps(models, "changed")]
        changed, count = len(rows), len(rows) + data.count(models, "added")
        if count == 0:
            return
        if data.coded:
            maps = [models.map(data.coded, len(self.columns), at < changed) for at in range(count)]
            columns = range(len(self.columns))
            bits = [sum((row >> at & 1) << place for place, row in enumerate(maps)) for at in columns]
        else:
            bitmap = data.varint()
            columns = [at for at in range(len(self.columns)) if bitmap >> at & 1]
            width = (count + 7) // 8 if count > 1 else 0
            bits = [int.from_bytes(bytes(data.byte() for _ in range(width)), "little") if width else 1 for _ in columns]
        rows += [list(self.added) for _ in range(count - changed)]
        moved, kin = [None] * count, [None] * count
        present = dict(zip(columns, bits))
        for column in range(len(self.columns)):
            field = self.fields[column - len(self.texts)] if column >= len(self.texts) else None
            level = field and field["kind"] == "level"
            for at, row in enumerate(rows):
                here = present.get(column, 0) >> at & 1
                before = rows[at - 1][column] if at > changed else self.added[column]
                if at >= changed:
                    row[column] = before if VERSION < 4 or kin[at] is None else kin[at][column]
                base = row[column]
                if here and field is None:
                    row[column] = data.text(texts, models, column)
                elif here and at >= changed and VERSION >= 4:
                    row[column] = self.serve(column, field["name"], [0, before, base], data)
                elif here and at >= changed:
                    row[column] = data.number(0 if level else base, models, column, False)
                elif here and level and field["unit"] == "ns":
                    start = base if isinstance(base, int) else None
                    row[column] = data.number(start if start is None else start + (moved[at] or 0), models, column, True)
                    if moved[at] is None:
                        moved[at] = row[column] - (start or 0) if isinstance(row[column], int) else 0
                elif here:
                    row[column] = data.number(base, models, column, True)
                if at >= changed and column == 0 and self.texts:
                    kin[at] = self.named.get(row[0])
                    if kin[at] is not None or len(self.named) < 512:
                        self.named[row[0]] = row
        if count > changed:
            self.added, self.named = list(rows[-1]), {name: list(row) for name, row in self.named.items()}
            self.rows += rows[changed:]
        identity = [self.columns.index(name) for name in IDENTITY[self.name].split()]
        self.rows.sort(key=lambda row: [-1 if row[at] == "absent" else row[at] for at in identity])

    def serve(self, column, name, bases, data):
        bases = [base if isinstance(base, int) else 0 for base in bases]
        served = self.served[name]
        value = data.number(bases[served.index(min(served))], self.models, column, False)
        if isinstance(value, int):
            for at, base in enumerate(bases):
                difference = (value - base + 2**63) % 2**64 - 2**63
                digits = abs(difference).bit_length() + (at > 0)
                served[at] += digits * 16 - served[at] // 16
        return value

def frames(data):
    at = 12
    while at < len(data):
        if data[at] == 0xF5:
            kind, length = struct.unpack_from("<4xBI", data, at)
            at += 15
        else:
            kind, length, at = data[at], data[at + 1], at + 2
            if length > 127:
                length, at = length & 127 | data[at] << 7, at + 1
            at += 4
        yield kind, data[at : at + length]
        at += length

data = open(sys.argv[1], "rb").read()
VERSION = data[8]
assert data[:8] == b"DOZOR\r\n\x1a" and VERSION in (2, 3, 4, 5)
parts = {}
for kind, payload in frames(data):
    if kind == 1:
        groups = json.loads(payload)["groups"]
    elif kind == 12:
        groups = json.loads(Stream().unpack(payload))["groups"]
    elif kind in (6, 7, 8, 9):
        part = "system" if kind in (6, 8) else "process"
        if kind < 8:
            parts[part] = ([Table(group) for group in groups if group["part"] == part], [], Stream())
        tables, texts, stream = parts[part]
        head = Input(payload, b"")
        if VERSION < 5:
            length = head.varint()
            source = Input(stream.unpack(payload[head.at : head.at + length]), payload[head.at + length :])
        else:
            length = head.varint()
            packed, length = head.varint() if length & 1 else 0, length >> 1
            texts_at, bits_at = head.at + length, head.at + length + packed
            unpacked = stream.unpack(payload[texts_at:bits_at]) if packed else b""
            source = Input(unpacked, payload[bits_at:], payload[head.at : texts_at])
        for table in tables:
            table.change(source, texts)
        for name in ("system", "ended", "process"):
            for table in (table for table in tables if table.name == name):
                for row in table.rows:
                    print(table.name, *(f"{name}={value}" for name, value in zip(table.columns, row) if value not in ("", "absent")))
    elif kind == 10:
        mark = json.loads(payload)
        print("mark", mark["kind"], mark["text"])
