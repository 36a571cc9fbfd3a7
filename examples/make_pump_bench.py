#!/usr/bin/python3
"""Writes examples/pump-bench.bench. The chains are worked out here from the sensors' data, so that it can be read where
each number comes from. The file it writes is normalised by `cruscotto check --write`."""
import json, sys

def two(low, high):
    return {"stage": "counts-to-volts", "bits": 16, "low": low, "high": high, "coding": "twos-complement"}

def rng(h):
    return {"low": -h, "high": h}

def sc(l, h):
    return {"low": l, "high": h}

# Type T, ITS-90 inverse, 0 to 400 degC, x in mV (NIST Monograph 175)
inverse = [2.592800e1, -7.602961e-1, 4.637791e-2, -2.165394e-3, 6.048144e-5, -7.293422e-7]
horner = ""
for c in reversed(inverse):
    horner = f"x*({c!r}{'+' if horner else ''}{horner})"
forward = [0.387481063640e-1, 0.332922278800e-4, 0.206182434040e-6, -0.218822568460e-8]
emf24 = sum(c * 24 ** (i + 1) for i, c in enumerate(forward))
pt = "(-3.9083e-3+sqrt(3.9083e-3^2+4*5.775e-7*(1-x/100)))/(-2*5.775e-7)"

signals = []
def add(id, name, tag, colour, terminal, kind, **more):
    signals.append({"id": id, "name": name, "tag": tag, "colour": colour, "device": "box", "terminal": terminal, "kind": kind, **more})

A, C, D = "analog-input", "counter-input", "digital-input"
add("inlet-pressure", "Inlet pressure", "P1", 3, "AI0", A, range=rng(5), scale=sc(-1, 1.5), limits={"low": -0.3},
    chain=[two(-5, 5), {"stage": "moving-mean", "samples": 50}, {"stage": "slope-offset", "slope": 0.625, "offset": -1.3125, "unit": "bar"},
           {"stage": "valid-range", "low": -1, "high": 1.5}])
add("outlet-pressure", "Outlet pressure", "P2", 0, "AI1", A, range=rng(10), scale=sc(0, 6), limits={"high": 4.5},
    chain=[two(-10, 10), {"stage": "moving-mean", "samples": 50}, {"stage": "slope-offset", "slope": 2.5, "offset": -2.5, "unit": "bar"},
           {"stage": "valid-range", "low": -0.1, "high": 10}])
add("motor-current", "Motor current", "I1", 1, "AI2-AI3", A, range=rng(0.1), scale=sc(0, 20), limits={"high": 15},
    chain=[two(-0.1, 0.1), {"stage": "moving-mean", "samples": 20}, {"stage": "slope-offset", "slope": 400, "offset": 0, "unit": "A"}])
add("bearing-temperature", "Bearing temperature", "T1", 5, "AI4", A, range=rng(0.02), scale=sc(20, 80), limits={"high": 70},
    chain=[two(-0.02, 0.02), {"stage": "moving-mean", "samples": 200}, {"stage": "slope-offset", "slope": 1000, "offset": round(emf24, 5), "unit": "mV"},
           {"stage": "formula", "formula": horner, "unit": "Cel"}, {"stage": "valid-range", "low": 0, "high": 400}])
add("water-temperature", "Water temperature", "T2", 2, "AI5", A, range=rng(0.2), scale=sc(15, 45),
    chain=[two(-0.2, 0.2), {"stage": "moving-mean", "samples": 200}, {"stage": "slope-offset", "slope": 1000, "offset": 0, "unit": "Ohm"},
           {"stage": "formula", "formula": pt, "unit": "Cel"}, {"stage": "valid-range", "low": 0, "high": 850}])
add("vibration", "Vibration", "G1", 6, "AI6", A, range=rng(0.2), scale=sc(-1, 1),
    chain=[two(-0.2, 0.2), {"stage": "slope-offset", "slope": 10, "offset": 0, "unit": "[g]"}])
add("spare", "Spare input", "A7", 7, "AI7", A, range=rng(1), scale=sc(-0.5, 0.5), chain=[two(-1, 1)])
add("box-temperature", "Box temperature", "T3", 3, "CJ", A, range=rng(1), scale=sc(0, 50),
    chain=[two(-1, 1), {"stage": "moving-mean", "samples": 100}, {"stage": "slope-offset", "slope": 100, "offset": 0, "unit": "Cel"}])
add("flow", "Flow", "Q1", 2, "CTR0", C, scale=sc(0, 80),
    chain=[{"stage": "pulse-counter", "mode": "frequency", "pulses-per-turn": 1, "silence-s": 1, "gate-s": 0.5},
           {"stage": "slope-offset", "slope": round(60 / 450, 9), "offset": 0, "unit": "L/min"}])
add("shaft-speed", "Shaft speed", "N1", 4, "CTR1", C, scale=sc(0, 3000),
    chain=[{"stage": "pulse-counter", "mode": "rpm", "pulses-per-turn": 4, "silence-s": 1, "gate-s": 0.5}])
add("tank-low", "Tank level", "L1", 4, "DI0", D, chain=[{"stage": "invert"}], on="low", off="enough")
add("guard-door", "Guard door", "D1", 5, "DI1", D, on="open", off="closed")
add("valve-is-open", "Open end switch", "V1", 2, "DI2", D, on="at open", off="not at open")
add("valve-is-closed", "Closed end switch", "V2", 7, "DI3", D, on="at closed", off="not at closed")
add("drive", "Drive speed", "AO", 0, "AO0", "analog-output", scale=sc(0, 10), output={"low": 0, "high": 10, "start": 7, "safe": 0})
add("valve", "Valve", "Y1", 2, "DO0", "digital-output", output={"low": 0, "high": 1, "start": 1, "safe": 0}, on="open", off="closed")
add("beacon", "Beacon", "H1", 1, "DO1", "digital-output", output={"low": 0, "high": 1, "start": 0, "safe": 0}, on="on", off="off")

def tile(id, kind, x, y, w, h, *sig):
    return {"id": id, "kind": kind, "x": x, "y": y, "w": w, "h": h, "signals": list(sig)}

pages = [
    {"id": "overview", "name": "Overview", "tiles": [
        tile("outlet", "dial", 0, 0, 3, 3, "outlet-pressure"),
        tile("speed", "dial", 3, 0, 3, 3, "shaft-speed"),
        tile("flow", "number", 6, 0, 2, 1, "flow"),
        tile("current", "number", 6, 1, 2, 1, "motor-current"),
        tile("inlet", "number", 6, 2, 2, 1, "inlet-pressure"),
        tile("bearing", "column", 8, 0, 2, 3, "bearing-temperature"),
        tile("water", "column", 10, 0, 2, 3, "water-temperature"),
        tile("hydraulics", "trace", 0, 3, 9, 5, "outlet-pressure", "inlet-pressure", "flow"),
        tile("door", "state", 9, 3, 3, 2, "guard-door"),
        tile("drive", "control", 9, 5, 3, 2, "drive"),
        tile("valve", "control", 9, 7, 3, 1, "valve")]},
    {"id": "mechanics", "name": "Mechanics", "tiles": [
        tile("vibration", "trace", 0, 0, 9, 4, "vibration", "spare"),
        tile("power", "trace", 0, 4, 9, 4, "motor-current", "shaft-speed"),
        tile("current", "dial", 9, 0, 3, 3, "motor-current"),
        tile("tank", "state", 9, 3, 3, 2, "tank-low"),
        tile("open", "state", 9, 5, 3, 2, "valve-is-open"),
        tile("beacon", "control", 9, 7, 3, 1, "beacon")]},
]
bench = {"format": "cruscotto-bench", "version": 1, "name": "Pump bench",
         "notes": "A small centrifugal pump on a loop with a tank, a throttle valve and a guard door, wired to a simulated I/O box.",
         "window-s": 30, "ribbon": "outlet-pressure",
         "devices": [{"id": "box", "name": "I/O box", "kind": "sim-io-box", "settings": {"seed": 1, "rate-hz": 1000, "faults": []}}],
         "signals": signals, "pages": pages}
json.dump(bench, open(sys.argv[1], "w"), indent=2, ensure_ascii=False)
open(sys.argv[1], "a").write("\n")
