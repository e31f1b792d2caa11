"""Which test belongs to which reference: named one by one, or folders matched by name."""

from __future__ import annotations

from pathlib import Path

from magnetite.core.errors import InputError
from magnetite.files.formats import by_ending


def pairs_of(
    reference: Path, tests: list[Path]
) -> tuple[list[tuple[Path, Path]], dict[Path, list[str]]]:
    """Pairs of a reference and a test, by the reference's name; and files without a partner.

    Those are by the folder that lacks one.

    Of folders, `a/tile.png` goes with `b/tile.tif`.

    Raises
    ------
    InputError
        If folders and pictures are mixed, two pictures of a folder have one name, or none match.
    """
    folders = [path.is_dir() for path in (reference, *tests)]
    if not any(folders):
        return [(reference, test) for test in tests], {}
    if not all(folders):
        odd = (reference, *tests)[folders.index(not folders[0])]
        raise InputError(
            f"{odd} is {'a folder' if odd.is_dir() else 'not a folder'}, unlike the first: score a "
            "picture against pictures, or a folder against folders"
        )
    references = _by_name(reference)
    pairs: list[tuple[Path, Path]] = []
    alone: dict[Path, list[str]] = {}
    for folder in tests:
        found = _by_name(folder)
        common = [name for name in references if name in found]
        if not common:
            raise InputError(
                f"no picture in {folder} has the name of one in {reference}; names are compared "
                "without their endings"
            )
        pairs += [(references[name], found[name]) for name in common]
        for one, other, lacking in ((references, found, folder), (found, references, reference)):
            if only := [str(one[name]) for name in one if name not in other]:
                alone.setdefault(lacking, []).extend(only)
    return sorted(pairs, key=lambda pair: pair[0]), alone


def pictures_in(folder: Path) -> list[Path]:
    """Files of a folder that can be pictures, by name; `InputError` unless it is a folder."""
    if not folder.is_dir():
        raise InputError(f"{folder}: is not a folder")
    return [
        p
        for p in sorted(folder.iterdir())
        if p.suffix.lower() in {*by_ending(), ".mgt"} and p.is_file()
    ]


def _by_name(folder: Path) -> dict[str, Path]:
    pictures: dict[str, Path] = {}
    for path in pictures_in(folder):
        if path.stem in pictures:
            raise InputError(
                f"{pictures[path.stem]} and {path} have one name; which is meant is not clear"
            )
        pictures[path.stem] = path
    return pictures
