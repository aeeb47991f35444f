import json, sys, time
from pathlib import Path

HERE = Path(__file__).parent
sys.path[:0] = [str(HERE)]
from cases import all_cases, made
from measure import measured, LIMITS
import numpy as np
from faithful_reel.core.hear.ears import installed_ears
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.text.manuscript import read_script
from faithful_reel.core.work.one_chapter import splice_file
from faithful_reel.core.errors import AppError

ears = installed_ears(None, language="en")
mem = Memory(Path("/tmp/w/sp/heard.sqlite"))
which = sys.argv[1] if len(sys.argv) > 1 else "tune"
cases = [c for c in all_cases() if (not c.held_out) == (which == "tune")]
step = int(sys.argv[2]) if len(sys.argv) > 2 else 1
part = int(sys.argv[3]) if len(sys.argv) > 3 else 0
rows = []
for c in cases[part::step]:
    m = made(c, Path("/tmp/w/sp") / str(c.number))
    t = time.time()
    out = m.chapter.parent / "out.wav"
    try:
        r0 = splice_file(m.chapter, read_script(m.script), m.pickup, m.line, out, ears, None, mem)
        r = r0.preview
    except AppError as e:
        print(f"{c.number:3d} {c.material:7s} {c.way:8s} {c.condition:13s} REFUSED {e}", flush=True)
        rows.append((c, None))
        continue
    told = r0.as_json()
    told["words"] = [w.from_take for w in r.words]
    json.dump(told, open(m.chapter.parent / "told.json", "w"))
    q = measured(c, m, out, told)
    rows.append((c, q))
    print(
        f"{c.number:3d} {c.material:7s} {c.way:8s} {c.condition:13s} {'R' if c.restart else ' '} pause {q.pause_ms:6.1f} end {q.end_ms:5.1f} lev {q.level_db:+5.2f} third {q.third_db:4.2f}/{q.third_worst_db:4.1f} floor {q.floor_db:+5.1f} click {q.click_over_db:4.1f} {''.join('P' if p else 't' for p in told['in_pause'])} {q.failed()} {time.time() - t:.0f}s",
        flush=True,
    )
ok = [q for _, q in rows if q]
print("inside", sum(not q.failed() for q in ok) / len(rows))
for k, v in LIMITS.items():
    print(k, sum(k not in q.failed() for q in ok) / len(rows))
