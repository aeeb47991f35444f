import json, sys
from pathlib import Path

HERE = Path(__file__).parent
sys.path[:0] = [str(HERE)]
from cases import *
from detect import *
from fit import natural
import soundfile, numpy as np

sp = Path(sys.argv[1]) if len(sys.argv) > 1 else Path("/tmp/w/sp")
which = sys.argv[2] if len(sys.argv) > 2 else "tune"
mats = {m.name: m for m in materials_once()}
rows = {"pause": [], "touch": []}
done = set()
import random

rng = random.Random(3)
for c in all_cases():
    p = sp / str(c.number)
    if (which == "tune") == c.held_out or not (p / "told.json").exists():
        continue
    told = json.load(open(p / "told.json"))
    x, rate = soundfile.read(p / "out.wav", dtype="float32")
    for at, pause, ent in zip((told["join_in"], told["join_out"]), told["in_pause"], (True, False)):
        at = round(at * rate)
        kind = "pause" if pause else "touch"
        rows[kind].append((minded(x, at, rate), unminded(x, at, rate), 1, c.material, c))
    done.add(c.material)
    if c.chapter_noise_db:
        mm = made(c, Path("/tmp/w/re"))
        from dataclasses import replace as rep

        for at, pause in rng.sample(natural(mats[c.material]), 8):
            kind = "pause" if pause else "touch"
            rows[kind].append((minded(mm.truth, at, mm.rate), unminded(mm.truth, at, mm.rate), 0, c.material, c))
for name in done:
    m = mats[name]
    for at, pause in natural(m):
        kind = "pause" if pause else "touch"
        rows[kind].append((minded(m.sound, at, m.rate), unminded(m.sound, at, m.rate), 0, name, None))
for kind, rr in rows.items():
    lab = np.array([r[2] for r in rr])
    rd = np.array([r[3] for r in rr])
    print(kind, "joins", lab.sum(), "natural", (1 - lab).sum())
    for k, n in ((0, "minded"), (1, "unminded")):
        f = np.nan_to_num(np.array([r[k] for r in rr]))
        print("  ", n, areas(f, lab, rd))
        if lab.sum():
            d = [
                (
                    abs(f[lab == 1, i].mean() - f[lab == 0, i].mean()) / (f[:, i].std() + 1e-9),
                    i,
                    round(f[lab == 1, i].mean(), 2),
                    round(f[lab == 0, i].mean(), 2),
                )
                for i in range(f.shape[1])
            ]
            print("     most apart", sorted(d, reverse=True)[:5])
    for cond in ("level", "tilt", "noisy take", "noisy chapter", "room", "pace", "other take", "all"):
        sel = np.array([(r[4] is None and cond != "noisy chapter") or (r[4] is not None and r[4].condition == cond) for r in rr])
        if lab[sel].sum() > 5:
            print("    ", cond, int(lab[sel].sum()), areas(np.nan_to_num(np.array([r[0] for r in rr]))[sel], lab[sel], rd[sel]))
