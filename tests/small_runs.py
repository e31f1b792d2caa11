"""Small runs in the process of a test, whose caches stay from run to run."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

import magnetite
from conftest import texture
from magnetite.core.picture import as_picture
from magnetite.experiment.executors import Alone
from magnetite.experiment.plan_reading import read_plan
from magnetite.experiment.runner import Outcome, run
from magnetite.experiment.tasks import PlanJob


def picture_at(path: Path, seed: int, side: int = 40) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    samples = np.rint(texture(side, side + 8, seed=seed) * 255).astype(np.uint8)
    magnetite.write(as_picture(samples), path)


def carried_out(folder: Path, text: str, into: str = "run", executor: object = None) -> Outcome:
    """A plan carried out in this process, whose caches stay from run to run."""
    (folder / "plan.toml").write_text(text)
    job = PlanJob.of(read_plan(folder / "plan.toml"), folder)
    return run(job, text, folder / into, executor or Alone())  # type: ignore[arg-type]


def table(folder: Path) -> pd.DataFrame:
    frame = pd.read_csv(folder / "scores.csv")
    return frame.drop(columns=[c for c in frame if c.startswith("seconds")])


PLAN = """
[references]
files = ["refs/*.png"]
[degradations]
noisy = "gaussian-noise sd=4%"
[treatments]
nothing = "nothing"
median = "median"
"""
