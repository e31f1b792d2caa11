"""Make docs/reliability.md by simulation with known truth, in half an hour: make reliability."""

from __future__ import annotations

import json
import math
import sys
from collections import Counter
from collections.abc import Iterator
from datetime import date
from itertools import product
from pathlib import Path

import numpy as np

_TESTS = Path(__file__).parent.parent / "tests"
sys.path[:0] = [
    str(_TESTS / part) for part in (
        ".", "core/analysis", "core/calibrate", "core/chart", "core/gate", "core/gauges",
        "core/opinion", "core/picture", "core/operations", "experiment",
    )
]  # fmt: skip

_INTRODUCTION = """\
# Reliability

Made by `make reliability` on {today}, from the simulations of the long tests. Nominal is 95 % for
every interval, and 93 to 97 % are accepted. Some differ: that of noise on texture covers a worst
case (any spectrum from f^-1 to f^-4), that of read noise without a known black level covers every
level that is possible, and both hold more often, as does the estimated psnr that rests on the
first; so do shares of few pictures, by Clopper and Pearson, and a gate's promise, which is a bound;
the area of a gate is that of rules fitted on fewer references than the one that is kept, and holds
somewhat less often; eight values of a skewed distribution are too few for 95 %. Photographs are six
crops of the two sample pictures that ship with scikit-learn; scenes are those of `magnetite
scenes`, of seeds that no method was made with. No constant depends on a picture.
"""

_VERDICTS = """\
Four denoisers at 0.4 to 2.5 times the right strength, on noise of 4, 10 and 25 dn. The truth is the
squared error: a strength that loses 0.5 dB against the best of five left noise if it is weaker, and
lost structure if it is stronger.

"""


def _share(held: list[bool]) -> str:
    """A share in percent with its standard error."""
    share = float(np.mean(held))
    error = math.sqrt(share * (1 - share) / len(held))
    return f"{100 * share:.1f} ± {100 * error:.1f}"


def _table(titles: list[str], rows: list[list[object]]) -> str:
    lines = ["| " + " | ".join(titles) + " |", "|" + "---|" * len(titles)]
    return "\n".join([*lines, *("| " + " | ".join(map(str, row)) + " |" for row in rows)])


def _intervals() -> str:
    rows: list[list[object]] = []
    for made in (_pictures, _cameras, _charts, _opinions, _tables, _gates):
        rows += [[name, simulation, len(held), _share(held)] for name, simulation, held in made()]
    return _table(["interval", "simulation", "cases", "held, %"], rows) + "\n"


Row = tuple[str, str, list[bool]]


def _pictures() -> Iterator[Row]:
    from test_alignment import held as shifts
    from test_noise_blocks import flat_held
    from test_noise_blocks import held as noises
    from test_order import edge_width_held
    from test_slanted_edges import coverage as edges
    from test_tuning import psnr_held

    from photographs import photographs

    noise = "sd of noise (`restore`, `noise-blocks`)"
    yield noise, "flat ground", flat_held(600)
    yield noise, "scenes, f^-0.9 to f^-1.6 textures; 2, 5, 12 dn", noises(range(60, 72), 320)
    yield (
        "shift (`--align`), both axes", "photographs blurred by 0 to 4 px; noise of 1, 6, 20 dn",
        shifts(photographs(256), 12),
    )  # fmt: skip
    yield (
        "MTF50", "2 to 14 degrees, 20 to 160 rows, sigma 0.3 to 2 px, noise of 0 to 6 dn",
        edges(600, 4, (0.0, 1.0, 2.0, 3.0, 4.5, 6.0))[0],
    )  # fmt: skip
    yield "edge-width", "32 edges of random sigma, mean over all draws", edge_width_held(300)
    for words, stated in (("stated", True), ("estimated", False)):
        made = "four scenes of four seeds, 3 and 10 dn, three denoisers"
        yield f"estimated psnr, sd {words}", made, psnr_held(stated, seeds=(3, 5, 7, 8))


def _cameras() -> Iterator[Row]:
    from test_cameras import measured

    found, refused = measured(range(2000, 3200))
    for name, held in found.items():
        made = f"simulated, 8 to 16 bits, 1 to 12 exposures ({len(refused)} of 1,200 refused)"
        yield f"camera: {name}", made, held
    from test_chart_noise import cameras

    import magnetite

    for encoded in (False, True):
        held = cameras(magnetite.chart(900, 600)[1], 200, 2, encoded=encoded)
        made = f"simulated cameras, one {'sRGB' if encoded else 'linear'} picture of the chart"
        for name, column in zip(("read noise", "full well", "PRNU"), held.T, strict=True):
            yield f"chart: {name}", made, column.tolist()


def _charts() -> Iterator[Row]:
    from test_chart_intervals import trials

    noise = "sensor-noise full-well=4000e read=8e"
    for words, chain in (("", noise), (", mosaic", f"mosaic + {noise} + demosaic")):
        held, _ = trials(chain, 40, (1200, 800))
        every = [bool(hit) for hits in held.values() for hit in hits]
        yield f"chart: all {len(held)} figures", f"40 pictures of a camera{words}", every


def _opinions() -> Iterator[Row]:
    from test_opinion import held_by_scales, thresholds
    from test_rating import unfinished

    for raters, spread in ((8, 1.0), (20, 3.0), (20, 6.0)):
        made = f"120 tests of 6 pictures, {raters} raters, values over {spread:g} sd"
        yield "scale value of paired comparisons", made, held_by_scales(120, raters, spread)
    for raters, spread in ((8, 0.6), (12, 0.8), (24, 0.5)):
        made = f"8 pictures, {raters} raters of whom half stop early, sd of {spread:g} between them"
        yield "mean opinion score", made, unfinished(raters, spread, 300)[0]
    for truth in (1.5, 3.0, 8.0):
        made = f"one rater, 40 trials, true threshold {truth:g} dn"
        yield "threshold of visibility", made, thresholds(400, truth)[1]


def _tables() -> Iterator[Row]:
    import test_intervals as simulated

    for references, repeats in ((3, 2), (8, 3), (30, 1)):
        yield (
            "mean (`summarize`, `score` of repeats)",
            f"{references} references, {repeats} repeats, normal",
            simulated.means_held(references, repeats, 2000),
        )
    for number in (8, 20, 60):
        yield "mean", f"{number} references, exponential", simulated.skewed_held(number, 2000)
    for references, treatments in ((3, 3), (5, 6), (12, 4), (20, 10)):
        yield (
            "differences of the ranking, together", f"{references} references, {treatments} equal "
            "treatments", simulated.differences_held(references, treatments, 2000),
        )  # fmt: skip
    for references in (3, 6):
        yield (
            "BD-rate, two codecs together", f"{references} references, sd 10 %",
            simulated.rates_held(references, 400),
        )  # fmt: skip
    for step in (
        "gaussian-noise sd=4%", "uniform-noise sd=4%", "laplace-noise sd=4%",
        "speckle contrast=0.2", "poisson-noise photons=1000", "salt-pepper density=0.1",
        "impulse-noise density=0.05", "sensor-noise full-well=8000e read=12e",
    ):  # fmt: skip
        yield "standard errors of certificates", f"`{step}`", simulated.certificates_held(step, 400)


def _gates() -> Iterator[Row]:
    from test_gate_promises import studies

    for references, pictures, alike, asked in (
        (10, 6, 0.5, 0.05), (30, 1, 0.0, 0.1), (60, 4, 0.5, 0.05), (120, 4, 0.5, 0.02),
    ):  # fmt: skip
        found = studies(references, pictures, alike, asked, 300)
        made = f"{references} references of {pictures}, correlation {alike:g}"
        yield f"promise of a gate (90 %), {100 * asked:g} % asked", made, [s.kept for s in found]
        for name in found[0].held:
            yield f"gate: {name}", made, [study.held[name] for study in found]


def _verdicts() -> str:
    from test_residual import METHODS, OPPOSITE, RIGHT, findings

    from magnetite.synthetic.catalogue import SCENES
    from photographs import photographs

    scenes = [
        np.rint(255 * scene.picture(256, 256, 9).luma().pixels().astype(float)) for scene in SCENES
    ]
    rows: list[list[object]] = []
    for name, pictures in (("photographs", photographs()), ("scenes", scenes)):
        counts: Counter[tuple[str, str]] = Counter()
        for picture, sd, method in product(pictures, (4, 10, 25), METHODS):
            counts.update(findings(picture, sd, method))
        right = sum(n for case, n in counts.items() if case in RIGHT or case[0] == "right")
        open_ = sum(n for (truth, found), n in counts.items()
                    if truth != "right" and found == "unclear")  # fmt: skip
        opposite = sum(n for case, n in counts.items() if case in OPPOSITE)
        rows.append([name, counts.total(), f"{100 * right / counts.total():.1f}",
                     f"{100 * open_ / counts.total():.1f}", opposite])  # fmt: skip
    return _table(["pictures", "restorations", "right, %", "left open, %", "the opposite"], rows)


def _gauges() -> str:
    import test_order
    import test_ringing

    import magnetite
    from photographs import photographs

    rows: list[list[object]] = []
    for name, (words, make, levels) in test_order.MOVES.items():
        found = [[magnetite.gauge(make(scene, level), name)[name] for level in levels]
                 for scene in photographs()]  # fmt: skip
        rows.append([f"`{name}`", words, _in_order(found)])
    for cause, (change, levels) in test_ringing.MOVES.items():
        found = [[test_ringing.ringing(change(scene, level), 255.0) for level in levels]
                 for scene in photographs(400)]  # fmt: skip
        rows.append(["`ringing`", f"{cause}, {len(levels)} levels", _in_order(found)])
    return _table(["gauge", "grows with", "pairs of neighbouring levels in order, %"], rows)


def _in_order(found: list[list[float]]) -> str:
    return f"{100 * float(np.mean(np.diff(np.array(found, float), axis=1) > 0)):.0f}"


def _noise_on_photographs() -> str:
    from test_noise_blocks import ratios

    from photographs import photographs

    rows: list[list[object]] = []
    for sd in (2, 4, 8, 12):
        errors = [abs(ratios(scene, sd, 1)[1] - 1) for scene in photographs(400)]
        rows.append([f"{sd} dn", f"{100 * float(np.median(errors)):.1f}",
                     f"{100 * max(errors):.1f}"])  # fmt: skip
    return _table(["noise added", "median error, %", "largest error, %"], rows)


_FUZZED = """\
Files of every reader, mutated: bits, bytes, lengths and numbers changed, cut, joined. A fault is
anything but one clear line, a warning, or more than a few seconds.

"""
#: Cases of all readers together; `make test-long` runs 200,000.
_CASES = 20_000


def _fuzzed() -> str:
    import fuzzing

    rows: list[list[object]] = [
        [name, cases, sum(faults.values())] for name, cases, faults in fuzzing.fuzz(_CASES, seed=7)
    ]
    return _FUZZED + _table(["reader", "cases", "faults"], rows)


#: Faults, and the test in which each happens to the program.
_FAULTS = {
    "full disk": ["test_a_full_disk_leaves_nothing_behind",
                  "test_a_full_disk_ends_with_one_line_and_a_sound_ledger"],
    "folder or file that cannot be written": ["test_a_folder_that_cannot_be_written_is_told",
                                              "test_what_is_no_plain_file_is_not_replaced"],
    "file that changes or goes": ["test_files_that_change_while_they_are_read",
                                  "test_a_file_that_changes_makes_new_rows"],
    "killed process": ["test_a_run_survives_twenty_kills", "test_a_killed_run_is_resumed"],
    "worker that dies": ["test_a_worker_process_that_dies_loses_its_task_and_no_other",
                         "test_a_worker_that_is_killed_costs_nothing"],
    "workers of a cluster that die and join": [
        "test_a_cluster_gives_the_same_rows_while_workers_die_and_join"],
    "two runs in one folder": ["test_two_runs_do_not_share_a_folder"],
    "clock that goes back": ["test_a_clock_that_goes_back_costs_no_row"],
    "no home, temporary folder, locale or encoding": [
        "test_the_main_job_needs_nothing_of_its_environment"],
    "closed or full output": ["test_outputs_that_are_closed_or_full"],
    "SIGINT and SIGTERM at random moments": ["test_a_run_that_is_ended_at_any_moment_goes_on",
                                             "test_an_interruption_is_one_line"],
    "change of code that a kept loop was compiled from": [
        "test_a_kept_loop_is_compiled_anew_where_what_it_calls_has_changed"],
    "many first starts at once": ["test_many_programs_start_at_once_with_an_empty_cache"],
    "commands that misbehave": ["test_commands_that_misbehave"],
    "folder of a run from a stranger": ["test_nothing_is_written_through_links_of_the_folder",
                                        "test_a_chain_opens_no_file_that_the_run_did_not_use"],
    "device or pipe instead of a file": ["test_only_regular_files_are_opened"],
}  # fmt: skip


def _faults() -> str:
    tests = "".join(path.read_text("utf-8") for path in _TESTS.rglob("test_*.py"))
    for names in _FAULTS.values():
        for name in names:
            assert f"def {name}(" in tests, name
    rows: list[list[object]] = [
        [fault, ", ".join(f"`{name}`" for name in names)] for fault, names in _FAULTS.items()
    ]
    return "Each happens to the program in a test.\n\n" + _table(["fault", "tests"], rows)


_MUTATIONS = """\
Mutations of a sample of the code, by `make mutations`: an operator, a comparison or a constant is
changed, and tests that run the changed code are run.

"""


def _mutations() -> str:
    kept = Path(__file__).parent / "mutations.json"
    record = json.loads(kept.read_text())
    found = record["groups"]
    rows: list[list[object]] = [
        [group, one["mutants"], one["seen"], sum(bool(s["reason"]) for s in one["survivors"])]
        for group, one in found.items()
    ]
    survivors: list[list[object]] = [
        [f"`{s['module']}`, line {s['line']}", s["change"], s["reason"] or "no test sees it"]
        for one in found.values()
        for s in one["survivors"]
    ]
    text = _MUTATIONS + _table(["modules", "mutants", "seen", "explained"], rows)
    text += f"\n\nThe last ones were drawn and run on {record['date']}."
    return text + "\n\n" + _table(["survivor", "change", "reason"], survivors)


#: Start of `gauge`, s, in docs/performance.md.
_START = 0.35
_MISUSE = """\
Command lines drawn from the declared parameters of every command, by `python tests/misuse.py`:
paths of good, damaged, missing and odd files, numbers within and far outside their bounds, steps
with settings that are right, wrong or missing. Expected are status 0 to 3 and one line of error.
Found that way, and mended: an empty name of an output, and folders in place of a plan, ended with
an error of the program itself; a name with a line break made a note of two lines.

"""


def _misuse() -> str:
    found = json.loads((Path(__file__).parent / "misuse.json").read_text())
    own = found["commands"]
    rows: list[list[object]] = [
        [f"`{name}`", one["cases"], f"{one['seconds'] / 60:.1f}"] for name, one in own.items()
    ]
    count, starts = len(found["faults"]), round(1800 / _START, -2)
    enough = sum(one["cases"] > starts or one["seconds"] >= 1800 for one in own.values())
    last = (
        f"\n\nUntil {found['date']}: {count} fault{'' if count == 1 else 's'} in "
        f"{sum(one['cases'] for one in own.values())} cases, in one process for each command. "
        f"Half an hour of calls at the {_START:g} s that `gauge` takes to start "
        f"(`make bench-starts`) are {starts:.0f} lines: {enough} of the {len(rows)} commands were "
        "given more, or half an hour by the clock."
    )
    return _MISUSE + _table(["command", "cases", "minutes"], rows) + last


_COVERAGE = """\
Lines and branches that the tests pass, by `make coverage` (compiled loops are left out, since they
run outside of Python; second implementations hold their results):

"""


def _coverage() -> str:
    found = json.loads((Path(__file__).parent / "coverage.json").read_text())
    rows: list[list[object]] = [[f"`{name}`", share] for name, share in found["shares"].items()]
    return _COVERAGE + _table(["package", "%"], rows) + f"\n\nMeasured on {found['date']}."


def _parts() -> Iterator[tuple[str, str]]:
    yield "Intervals", _intervals()
    yield "Noise of photographs, estimated", _noise_on_photographs()
    yield ("Verdicts on residuals", _VERDICTS + _verdicts())
    yield "Order of the gauges", _gauges()
    yield "Mutated files", _fuzzed()
    yield "Faults", _faults()
    yield "Mutations of the code", _mutations()
    yield "Misuse", _misuse()
    yield "Coverage", _coverage()


def main(folder: Path) -> None:
    """Write the page."""
    page = _INTRODUCTION.format(today=date.today().isoformat())
    for title, text in _parts():
        page += f"\n## {title}\n\n{text.strip()}\n"
    (folder / "reliability.md").write_text(page, "utf-8")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
