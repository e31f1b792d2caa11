"""The page: one self-contained HTML file; pictures beyond a limit go into a folder next to it."""

from __future__ import annotations

import base64
import json
import os
import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from hashlib import sha256
from importlib.resources import files
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from magnetite.core.compute.threads import spread
from magnetite.core.quantities import figure
from magnetite.experiment.guarantee import need_of
from magnetite.files.atomic import check_writable, inside, make_folder, write_bytes
from magnetite.pages.content import Content, of_run
from magnetite.pages.encoding import encode, similarity
from magnetite.pages.pictures import Shown

#: Bytes of pictures that the page itself holds; the others go into a folder next to it.
LIMIT = 9 * 10**6
#: Parts of the program of the page, in the order in which they run.
_SCRIPTS = (
    "base",
    "kept",
    "table",
    "chart",
    "curves",
    "guarantee",
    "pictures",
    "compare",
    "landscape",
    "start",
)
#: Signs that would end a script, or begin a comment or a tag inside one.
_UNSAFE = {"<": "\\u003c", ">": "\\u003e", "&": "\\u0026", "\u2028": "\\u2028", "\u2029": "\\u2029"}


@dataclass(frozen=True)
class Written:
    """The page as written, its pictures, and the number of those in the folder."""

    page: Path
    size: int
    pictures: int
    outside: int


def write_page(content: Content, path: Path, limit: int = LIMIT) -> Written:
    """Write the page that shows a content; the file is replaced only when it is complete.

    Parameters
    ----------
    content : Content
    path : Path
        Of the page, an `.html` file.
    limit : int
        Bytes of pictures that the page holds; those beyond go into a folder next to it.

    Raises
    ------
    FileError
        If the file or the folder cannot be written.
    """
    check_writable(path)
    folder = path.with_name(f"{path.stem}-pictures")
    within: list[tuple[str, str]] = []
    outside: list[tuple[str, str]] = []
    described = []
    room = limit
    pictures = content.gallery.pictures
    references = {one.reference: one for one in pictures if one.kind == "reference"}
    named = zip(_names(pictures, references), pictures, strict=True)
    for own, texts in spread(lambda pair: _described(*pair, references), named):
        room -= sum(len(text) for _, text in texts)
        (outside if room < 0 else within).extend(texts)
        described.append(own)
    page = _rendered(content, described, within, folder.name)
    with _companions(folder, outside):
        write_bytes(path, page)
    return Written(path, len(page), len(described), len({n.split("-")[0] for n, _ in outside}))


@contextmanager
def _companions(folder: Path, scripts: list[tuple[str, str]]) -> Iterator[None]:
    """Files of pictures in the page's folder, all written before the first is put there."""
    inside(folder.parent, folder.name)
    with TemporaryDirectory(prefix=".magnetite-", dir=folder.parent) as waiting:
        for name, text in scripts:
            script = f"magnetitePictures[{json.dumps(name)}]={json.dumps(text)};\n"
            write_bytes(Path(waiting) / f"{name}.js", script.encode())
        yield
        if scripts:
            make_folder(folder)
        for name, _ in scripts:
            os.replace(Path(waiting) / f"{name}.js", folder / f"{name}.js")
    _clear(folder, {f"{name}.js" for name, _ in scripts})


def report(
    run: Path | str, page: Path | str | None = None, *, metric: str | None = None,
    need: str | Sequence[str] = (), share: float | None = None, confidence: float | None = None,
    limit: int = LIMIT,
) -> Written:  # fmt: skip
    """Write the page of a run.

    Parameters
    ----------
    run : path
        Folder of the run.
    page : path, optional
        The page, an `.html` file; `report.html` in the run's folder if left out.
    metric : str, optional
        Of the answer; the run's first if left out.
    need : str or sequence of str
        Of a guarantee, which is drawn: figures with a bound, such as `ssim>=0.95`.
    share, confidence : float, optional
        Of the guarantee: share of new references that meet the need, and the confidence in it;
        0.95 and 0.9 if left out.
    limit : int
        Bytes of pictures that the page holds; those beyond go into a folder next to it.

    Raises
    ------
    FileError
        If the folder holds no run, or a file cannot be written.
    InputError
        If no row is done, or the run has no such metric or figure.

    Examples
    --------
    >>> import magnetite
    >>> from pathlib import Path
    >>> _ = magnetite.write(magnetite.scenes((96, 72))["clay-core"], "core.png")
    >>> _ = Path("plan.toml").write_text('''
    ... references.files = ["core.png"]
    ... degradations.noisy = "gaussian-noise sd=4%"
    ... treatments.nothing = "nothing"
    ... treatments.median = "median size=3"
    ... ''')
    >>> _ = magnetite.run("plan.toml", workers=1)
    >>> magnetite.report("plan").page.name
    'report.html'
    """
    path = inside(Path(run), "report.html") if page is None else Path(page)
    wanted = need_of(need, share, confidence, asked=bool(need), where="--need")
    return write_page(of_run(Path(run), metric, wanted), path, limit)


def _clear(folder: Path, kept: set[str]) -> None:
    """Remove pictures of an earlier page from its folder."""
    if not folder.is_dir() or folder.is_symlink():
        return
    for path in folder.iterdir():
        if re.fullmatch(r"p[0-9a-f]+-[a-z]+\.js", path.name) and path.name not in kept:
            path.unlink()


def _names(pictures: Sequence[Shown], references: dict[str, Shown]) -> list[str]:
    """Names derived from the content: a link to an earlier page, or that page while it is still
    open, finds the same picture or none.
    """
    made: list[str] = []
    for one in pictures:
        words = "\0".join((one.reference, one.kind, one.label, one.detail))
        shown = [one, *filter(None, [references.get(one.reference)])]
        digests = b"".join(each.picture.digest() for each in shown)
        made.append(f"p{sha256(words.encode(errors='replace') + digests).hexdigest()[:12]}")
    return [f"{name}{made[:k].count(name) or ''}" for k, name in enumerate(made)]


def _described(
    name: str, one: Shown, references: dict[str, Shown]
) -> tuple[dict[str, Any], list[tuple[str, str]]]:
    """Facts of a picture for the page, and its files as named texts in base 64."""
    made, reference = encode(one.picture), references.get(one.reference)
    parts = {"high": made.high, "low": made.low}
    if reference is not None and one.kind != "reference":
        parts["ssim"] = similarity(reference.picture, one.picture)
    texts = [
        (f"{name}-{part}", base64.b64encode(data).decode())
        for part, data in parts.items()
        if data is not None
    ]
    known = asdict(made)
    del known["high"], known["low"]
    described = {
        "id": name, "reference": one.reference, "kind": one.kind, "label": one.label,
        "detail": one.detail, "bpp": one.bpp, "row": one.row,
        "scores": {k: v if abs(v) != float("inf") else "inf" for k, v in one.scores.items()},
        "parts": [part for part, data in parts.items() if data is not None], **known,
    }  # fmt: skip
    return described, texts


def _rendered(
    content: Content, pictures: list[dict[str, Any]], texts: list[tuple[str, str]], folder: str
) -> bytes:
    templates = environment()
    templates.filters["figure"] = figure
    templates.filters["isolated"] = _isolated
    templates.filters["capital"] = lambda text: text[:1].upper() + text[1:]
    data = {
        "columns": [asdict(column) for column in content.columns],
        "rows": content.rows,
        "means": dict(zip(("columns", "rows", "caption"), content.means, strict=True)),
        "metric": content.metric,
        "rates": content.rates,
        "families": content.families,
        "labels": content.labels,
        "levels": content.levels,
        "guarantee": _guarantee(content),
        "pictures": pictures,
        "folder": folder,
    }
    page = templates.get_template("page.html").render(
        content=content,
        pictures=pictures,
        data=safe_json(data),
        texts=texts,
        style=asset("style.css"),
        scripts=list(_scripts()),
        licence=asset("chart.LICENSE.md"),
    )
    return str(page).encode()


def _guarantee(content: Content) -> dict[str, Any] | None:
    """The sequences of a guarantee for the page; None without one."""
    import pandas as pd

    need = content.need
    if need is None:
        return None
    return {
        "share": 100 * need.share,
        "targets": [
            {"name": str(one.step), "value": one.value, "sense": one.sense} for one in need.targets
        ],
        "sequences": [
            {
                "name": one.name, "sentence": one.sentence,
                "lines": [{name: asdict(line) for name, line in own.items()} for own in one.lines],
                "settings": [
                    {key: None if pd.isna(v) else v for key, v in s.items()}
                    for s in one.settings
                ],
            }
            for one in content.guarantees
        ],
    }  # fmt: skip


def environment() -> Any:
    """Templates of pages: values are escaped, and none may be missing."""
    from jinja2 import Environment, PackageLoader, StrictUndefined

    return Environment(
        loader=PackageLoader("magnetite.pages", "assets"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )


def _isolated(text: str) -> Any:
    """Names in quotes as isolates: their direction of writing turns nothing around them."""
    from markupsafe import Markup, escape

    parts = re.split("“([^”]*)”", text)
    return Markup("").join(
        Markup("“<bdi>{}</bdi>”").format(part) if number % 2 else escape(part)
        for number, part in enumerate(parts)
    )


def _scripts() -> Iterator[str]:
    for name in _SCRIPTS:
        if name == "chart":
            library, _, _ = asset("chart.umd.min.js").rpartition("//# sourceMappingURL")
            yield library
        else:
            yield asset(f"{name}.js")


def asset(name: str) -> str:
    """Text of a file that pages are made of."""
    return files("magnetite.pages").joinpath("assets", name).read_text("utf-8")


def safe_json(data: dict[str, Any]) -> str:
    """JSON that is safe inside a script element, whatever it holds."""
    text = json.dumps(data, ensure_ascii=False, allow_nan=False, separators=(",", ":"))
    for sign, escaped in _UNSAFE.items():
        text = text.replace(sign, escaped)
    return text
