"""Run the demo in environments of their own: with the lowest versions that pyproject.toml allows, and the newest.

Run as a script by `make versions`. The newest versions are taken without regard to upper bounds. If the demo runs with
one that a bound excludes, move the bound; if it does not, the docstring of the test of that name describes what to do.
"""

import re
import subprocess
import sys
import tempfile
import tomllib
from pathlib import Path

ROOT = Path(__file__).parents[1]


def requirements():
    project = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
    extras = project["optional-dependencies"]
    (whole,) = extras["formats"]
    parts = re.findall(r"\w+", whole.partition("[")[2])
    return list(dict.fromkeys([*project["dependencies"], *(each for part in parts for each in extras[part])]))


def lowest(requirement):
    return re.sub(r">=([^,]+).*", r"==\1", requirement)


def newest(requirement):
    return re.sub(r">=.*", "", requirement)


def demo_runs(name, versions, folder):
    place = folder / name
    subprocess.run([sys.executable, "-m", "venv", place], check=True)
    pip = [place / "bin" / "python", "-m", "pip", "install", "--quiet", "--disable-pip-version-check", "--no-compile"]
    subprocess.run([*pip, *versions, "hatchling", "editables"], check=True)
    subprocess.run([*pip, "--no-deps", "--no-build-isolation", "--editable", ROOT], check=True)
    env = {"PATH": "/usr/bin:/bin", "EVRIN_CACHE": str(place / "cache"), "HOME": str(place)}
    done = subprocess.run(
        [place / "bin" / "evrin", "-q", "demo", place / "site"], env=env, capture_output=True, text=True
    )
    print(f"{name}: exit code {done.returncode}", *done.stderr.splitlines()[-2:], flush=True)
    return done.returncode == 0


def main():
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        ran = [demo_runs(each.__name__, map(each, requirements()), folder) for each in (lowest, newest)]
    sys.exit(not all(ran))


if __name__ == "__main__":
    main()
