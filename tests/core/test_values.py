"""Values that cross a process: chains, pictures, a codec of the user's own."""

from __future__ import annotations

import hashlib
import io
import multiprocessing
import pickle
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

import magnetite
from conftest import arguments, sample_pictures
from magnetite.core.chain.notation import parse_chain, parse_step
from magnetite.core.chain.step import AUTO, Chain, Step
from magnetite.core.errors import ChainError
from magnetite.core.methods.catalogue import every
from magnetite.core.picture import Picture, as_picture

OWN = """
[codec.halves]
encode = ["sh", "-c", "cp {input} {output} # {quality}"]
decode = "cp {input} {output}"
quality = [1, 9]
"""


@pytest.mark.parametrize("method", every(), ids=lambda m: f"{m.kind}-{m.name}")
def test_steps_are_plain_data(method: object) -> None:
    step = parse_step(method.example, method.kind)
    again = pickle.loads(pickle.dumps(step))
    assert again == step
    assert hash(again) == hash(step)
    assert str(again) == str(step)
    assert again.method is method


def test_auto_is_no_value() -> None:
    chain = parse_chain("gaussian-blur sigma=auto", "degradation", auto=True)
    (step,) = pickle.loads(pickle.dumps(chain)).steps
    assert step.settings == (("sigma", AUTO),)
    assert str(step) == "gaussian-blur sigma=auto"
    with pytest.raises(ChainError, match="sigma=auto has no value yet"):
        arguments(step, sample_pictures()["gray 8"])
    with pytest.raises(ChainError, match="no codec is called 'nothing' here"):
        str(Step("codec", "nothing"))


def test_pictures_never_change() -> None:
    for picture in sample_pictures().values():
        again = pickle.loads(pickle.dumps(picture))
        assert again.digest() == picture.digest()
        assert not again.samples.flags.writeable
        with pytest.raises(ValueError, match="read-only"):
            again.samples[0] = 0
    samples = np.arange(64, dtype=np.uint8).reshape(8, 8)
    for made in (as_picture(samples), Picture(samples, 8, "gray"), Picture(samples.T, 8, "gray"),
                 Picture(samples[::2], 8, "gray")):  # fmt: skip
        before = made.digest()
        samples += 1
        assert made.digest() == before
    floats = np.zeros((4, 4))
    picture = as_picture(floats)
    floats += 1
    assert picture.samples.max() == 0


def declare(path: Path) -> None:
    from magnetite.external import declare

    declare(path)


def work(picture: Picture, chain: Chain, codec: Step) -> list[str]:
    degraded = magnetite.degrade(picture, str(chain), seed=3).picture
    coded = magnetite.compress(degraded, str(codec))
    return [degraded.digest().hex(), hashlib.sha256(coded.data).hexdigest()]


def test_another_process_makes_the_same_bytes(tmp_path: Path) -> None:
    (tmp_path / "own.toml").write_text(OWN)
    picture = sample_pictures()["rgb 8"]
    chain = parse_chain("gaussian-noise sd=5dn + quantize bits=5", "degradation")
    spawned = multiprocessing.get_context("spawn")
    arguments = (tmp_path / "own.toml",)
    with ProcessPoolExecutor(1, spawned, initializer=declare, initargs=arguments) as pool:
        for codec in (
            Step("codec", "halves", (("quality", 3),)),
            parse_step("pcm bits=3", "codec"),
        ):
            made = pool.submit(work, picture, chain, codec).result(60)
            if codec.name == "pcm":
                assert made == work(picture, chain, codec)
            else:
                assert made[0] == work(picture, chain, parse_step("pcm bits=3", "codec"))[0]


def test_every_module_that_declares_methods_is_found() -> None:
    import re

    from magnetite.core.methods.catalogue import PACKAGES, families

    root = Path(magnetite.__file__).parent
    kinds = "conversion|degradation|restoration|codec|metric|gauge"
    declares = re.compile(rf"^@({kinds})\(|^_\w+ = partial\(\s*({kinds}),", re.MULTILINE)
    declaring = {
        ".".join(("magnetite", *path.relative_to(root).with_suffix("").parts))
        for path in (root / "core").rglob("*.py")
        if declares.search(path.read_text())
    }
    assert declaring == {module for kind in PACKAGES for module in families(kind)}


def test_a_search_for_a_rate_transforms_once(monkeypatch: pytest.MonkeyPatch) -> None:
    from magnetite.core.codecs.layers.transform import CosineTransform
    from magnetite.core.operations.rate import compress_to_aim, compress_to_rate

    calls = []
    forward = CosineTransform.forward
    monkeypatch.setattr(
        CosineTransform, "forward", lambda self, blocks: calls.append(1) or forward(self, blocks)
    )
    picture = sample_pictures()["gray 8"]
    found = compress_to_rate(picture, "dct", 1.0)
    assert len(calls) == 3, "one for each size of blocks"
    assert found.bpp <= 1
    assert found.data == magnetite.compress(picture, found.step).data, "as if coded alone"
    aimed = compress_to_aim(picture, "dct", "psnr=36")
    assert len(calls) == 9, "as many for the comparison, and for the aim"
    assert aimed.data == magnetite.compress(picture, aimed.step).data


def test_metrics_share_what_they_need(
    run: object, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from magnetite.core.methods import lifting as colour_lifting
    from magnetite.core.metrics import phase

    lumas, features = [], []
    luma, congruency = colour_lifting.luma, phase.phase_congruency
    monkeypatch.setattr(colour_lifting, "luma", lambda x: lumas.append(1) or luma(x))
    monkeypatch.setattr(phase, "phase_congruency", lambda x: features.append(1) or congruency(x))
    run("scenes", "t", "--size", "192x184")
    tests = []
    for number in range(3):
        tests.append(f"{number}.png")
        run("degrade", "t/veined-breccia.png", tests[-1], "gaussian-noise", f"sd={number + 1}dn")
    lumas.clear()
    run("score", "t/veined-breccia.png", *tests, "--metrics", "all")
    assert len(lumas) == 4, "one of the reference, one of each test"
    assert len(features) == 4


def test_pictures_show_themselves_in_a_notebook() -> None:
    for name, picture in sample_pictures().items():
        with Image.open(io.BytesIO(picture._repr_png_())) as image:
            shown = np.asarray(image)
        assert shown.shape[:2] == (picture.height, picture.width), name
        expected = picture.on_scale(255.0)
        if picture.colour == "planes":
            expected = expected[..., picture.channels // 2]
        np.testing.assert_allclose(shown, expected.clip(0, 255), atol=0.5 + 1e-6, err_msg=name)
