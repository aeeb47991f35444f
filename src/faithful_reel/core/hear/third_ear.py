"""The third ear: a small recogniser of another make, run on ONNX Runtime in a helper process, see `ears_child`.

It works on sound of any length without a window, so that it is quick on short chunks, and it writes repeats down that
the others tidy away.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.hear.windowed import MOST_TOKENS, Row
from faithful_reel.core.units import EAR_RATE, Signal

BEGIN, END = 1, 2
SPACE = "▁"
STRIDE = 384
"""Samples of sound a frame of the encoder stands for (64 · 3 · 2)."""
SHORTEST = EAR_RATE // 5


class ThirdEar:
    """Greedy decoding of the sequence-to-sequence model; sessions of ONNX Runtime may be run from any thread."""

    def __init__(self, folder: Path) -> None:
        import onnxruntime

        options = onnxruntime.SessionOptions()
        options.intra_op_num_threads = options.inter_op_num_threads = 1
        options.enable_cpu_mem_arena = False  # it keeps the most that any chunk ever took
        self._encoder, self._decoder = (
            onnxruntime.InferenceSession(str(folder / name), options, providers=["CPUExecutionProvider"])
            for name in ("encoder_model.ort", "decoder_model_merged.ort")
        )
        self._past = [i for i in self._decoder.get_inputs() if i.name.startswith("past")]
        self._present = [o.name.replace("present", "past_key_values") for o in self._decoder.get_outputs()[1:]]
        self._pieces = _pieces((folder / "tokenizer.bin").read_bytes())

    def words(self, audio: Signal) -> list[Row]:
        """What is said in (n,) audio at 16 kHz; times are only shares of it by the length of the words."""
        length = len(audio)
        if length < SHORTEST:
            audio = np.pad(audio, (0, SHORTEST - length))
        given = {"input_values": audio[None], "attention_mask": np.ones((1, len(audio)), np.int64)}
        return self._told(self._encoder.run(None, given)[0], length)

    def _decoded(self, sound: NDArray[np.float32], ids: NDArray[np.int64], past: dict[str, Any] | None) -> list[Any]:
        given: dict[str, Any] = {
            "encoder_attention_mask": np.ones((1, sound.shape[1] * STRIDE), np.int64),
            "encoder_hidden_states": sound,
            "input_ids": ids,
            "use_cache_branch": np.array([past is not None]),
        }
        given |= past or {i.name: np.zeros((1, i.shape[1], 0, i.shape[3]), np.float32) for i in self._past}
        found: list[Any] = self._decoder.run(None, given)
        return found

    def _told(self, sound: NDArray[np.float32], length: int) -> list[Row]:
        """The words of an encoded stretch."""
        ids, past = np.array([[BEGIN]], np.int64), None
        tokens: list[int] = []
        sure: list[float] = []
        for _ in range(int(MOST_TOKENS * length / EAR_RATE) + 8):
            logits, *cache = self._decoded(sound, ids, past)
            row = logits[0, -1]
            token = int(row.argmax())
            if token == END:
                break
            tokens.append(token)
            sure.append(float(1 / np.exp(row - row[token]).sum()))
            made = dict(zip(self._present, cache, strict=True))
            past = made if past is None else {**past, **{name: made[name] for name in made if ".decoder." in name}}
            ids = np.array([[token]], np.int64)
        words: list[tuple[bytes, list[float]]] = []
        for token, p in zip(tokens, sure, strict=True):
            piece = self._pieces[token]
            if piece.startswith(SPACE.encode()) or not words:
                words.append((b"", []))
            words[-1] = (words[-1][0] + piece, [*words[-1][1], p])
        texts = [(raw.decode(errors="replace").replace(SPACE, " ").strip().lstrip("\"'"), min(p)) for raw, p in words]
        texts = [(text, p) for text, p in texts if text]
        cuts = np.concatenate([[0], np.cumsum([len(text) + 1 for text, _ in texts])])
        cuts = np.round(cuts / max(1, cuts[-1]) * (length - 1)).astype(int)
        return [(text, int(cuts[k]), int(max(cuts[k + 1], cuts[k] + 1)), p) for k, (text, p) in enumerate(texts)]


def _pieces(raw: bytes) -> list[bytes]:
    """The vocabulary: every piece after its length, which takes a second byte from 128 on."""
    pieces: list[bytes] = []
    at = 0
    while at < len(raw):
        size, at = raw[at], at + 1
        if size >= 128:
            size, at = size - 128 + 128 * raw[at], at + 1
        pieces.append(raw[at : at + size])
        at += size
    return pieces
