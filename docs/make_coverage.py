"""Keep the coverage that the tests reached: make coverage."""

from __future__ import annotations

import json
import subprocess
import sys
from datetime import date
from pathlib import Path

PACKAGES = ("core", "experiment")
#: Percent of lines and branches that each package must reach.
LEAST = 95.0


def share_of(package: str) -> float:
    """Lines and branches of a package that were passed, %."""
    report = [sys.executable, "-m", "coverage", "report", "--include"]
    pattern = f"src/magnetite/{package}/*"
    subprocess.run([*report, pattern], check=True)
    words = [*report, pattern, "--format", "total"]
    return float(subprocess.run(words, check=True, capture_output=True, text=True).stdout)


def main(path: Path) -> None:
    """Write the shares, and fail where one is too low."""
    shares = {f"magnetite.{package}": share_of(package) for package in PACKAGES}
    record = {"date": date.today().isoformat(), "shares": shares}
    path.write_text(json.dumps(record, indent=1) + "\n")
    if low := [name for name, share in shares.items() if share < LEAST]:
        raise SystemExit(f"below {LEAST:g} %: {', '.join(low)}")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
