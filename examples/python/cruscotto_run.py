"""Reads the raw samples of a Cruscotto run, also while it is being recorded. Standard library and NumPy only.

The format is described in docs/run-format.md. From a shell: python3 cruscotto_run.py NAME.run
"""

import json
import sqlite3
import struct
import sys

import numpy as np

TYPES = [np.dtype(t) for t in ("<i2", "<i4", "<u4", "<f4", "<f8", "u1")]
FRAME = 256


def unpack_frame(data, at, dtype):
    """One frame of packed samples that begins at data[at]: (its 256 samples, where the next one begins)."""
    unsigned = np.dtype(f"<u{dtype.itemsize}")
    bits = 8 * dtype.itemsize
    lanes = FRAME // bits
    width, mode = data[at] & 0x3F, data[at] >> 6
    at += 1
    head = np.frombuffer(data, unsigned, 1 + (mode == 1), at)
    at += head.nbytes
    words = np.frombuffer(data, unsigned, width * lanes, at).reshape(width, lanes).astype(np.uint64)
    at += width * lanes * dtype.itemsize
    rows = np.zeros((bits, lanes), np.uint64)
    mask = np.uint64((1 << width) - 1)
    for row in range(bits if width else 0):
        word, shift = divmod(row * width, bits)
        value = words[word] >> np.uint64(shift)
        if shift + width > bits:
            value |= words[word + 1] << np.uint64(bits - shift)
        rows[row] = value & mask
    values = (rows.reshape(-1) + np.uint64(head[0])) & np.uint64((1 << bits) - 1)
    if mode == 1:
        values = (np.cumsum(values, dtype=np.uint64) + np.uint64(head[1])) & np.uint64((1 << bits) - 1)
    return values.astype(unsigned).view(dtype), at


def unpack(data, n, dtype):
    """n samples of packing 1."""
    parts, at, left = [], 0, n
    while left >= FRAME // 2:
        frame, at = unpack_frame(data, at, dtype)
        parts.append(frame[:left])
        left -= min(left, FRAME)
    parts.append(np.frombuffer(data, dtype, left, at))
    return np.concatenate(parts)


class Run:
    """A run file. Signals are named by their id in the bench."""

    def __init__(self, path):
        self.db = sqlite3.connect(f"file:{path}?mode=ro", uri=True)
        facts = dict(self.db.execute("SELECT key, value FROM run"))
        if facts["format"] != "cruscotto-run" or facts["version"] != 3:
            raise ValueError(f"{path} is not a run of format 3")
        self.closed = facts["state"] == "closed"
        self.types = {row[0]: TYPES[row[1]] for row in self.db.execute("SELECT id, type FROM signal")}
        self.signals = {}
        for key, signal, group in self.db.execute("SELECT key, id, group_id FROM signal"):
            self.signals.setdefault(key, []).append((signal, group))
        self.layouts = {row[0]: (row[1], json.loads(row[2])) for row in self.db.execute("SELECT * FROM layout")}

    def definition(self, key):
        """The signal's description, its chain included: as corrected last, else as it was at the end."""
        signal = self.signals[key][-1][0]
        if self.db.execute("SELECT 1 FROM sqlite_master WHERE name='version_signal'").fetchone():
            signal = self.db.execute("SELECT coalesce((SELECT as_id FROM version_signal WHERE signal_id=? "
                                     "ORDER BY version_id DESC LIMIT 1), ?)", (signal, signal)).fetchone()[0]
        return json.loads(self.db.execute("SELECT json FROM definition WHERE signal_id=? ORDER BY rowid DESC LIMIT 1",
                                          (signal,)).fetchone()[0])

    def columns(self, block_data, layout, n, clocked):
        """The parts of a block: (times or None, {signal id: samples})."""
        at, times, columns = 1, None, {}
        wanted = ([] if clocked else [None]) + self.layouts[layout][1]
        for signal in wanted:
            dtype = np.dtype("<i8") if signal is None else self.types[signal]
            packing, length = 0, n * dtype.itemsize
            if block_data[0] == 1:
                packing, length = struct.unpack_from("<BI", block_data, at)
                at += 5
            part = block_data[at:at + length]
            at += length
            samples = unpack(part, n, dtype) if packing == 1 else np.frombuffer(part, dtype, n)
            if signal is None:
                times = samples
            else:
                columns[signal] = samples
        return times, columns

    def samples(self, key):
        """(times in ns on the bench's axis, raw samples) of one signal."""
        all_times, all_samples = [], []
        for signal, group in self.signals[key]:
            layouts = [i for i, (g, members) in self.layouts.items() if g == group and signal in members]
            marks = ",".join("?" * len(layouts))
            for layout, n, t0, dt, data in self.db.execute(
                    f"SELECT layout_id, n, t0_ns, dt_ns, data FROM block WHERE layout_id IN ({marks}) ORDER BY id", layouts):
                times, columns = self.columns(data, layout, n, dt is not None)
                if times is None:
                    times = t0 + np.floor(np.arange(n) * dt + 0.5).astype(np.int64)
                all_times.append(times)
                all_samples.append(columns[signal])
        if not all_samples:
            return np.empty(0, np.int64), np.empty(0)
        return np.concatenate(all_times), np.concatenate(all_samples)


if __name__ == "__main__":
    run = Run(sys.argv[1])
    print("closed" if run.closed else "not closed: still being recorded, or cut short")
    for name in run.signals:
        t, v = run.samples(name)
        span = (t[-1] - t[0]) / 1e9 if len(t) else 0.0
        print(f"{name:24} {len(v):12} samples over {span:.3f} s, raw {v.min() if len(v) else '-'} to {v.max() if len(v) else '-'}")
