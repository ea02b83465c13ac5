"""Messages, help, docstrings, comments and pages use plain words: none of those on the list of words to avoid."""

import re
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
REFUSED = re.compile(
    r"""\b(?:
    told | tells? | telling | says? | said | speaks?\ (?:for|against) | stands? | stood | mend(?:s|ed|ing)?
    | gone | went | g[ia]ves?\ way | giving\ way | on\ the\ floor | as\ kept | found\ in\ the\ store | means\ nothing
    | (?<!there\ )is\ no\ [a-z]+ | packed\ file | begins?\ like | carried\ out | square\ across | runs?\ square
    | found\ not\ to\ be | half\ written | looks?\ around\ on | looking\ around | all\ but | but\ for | affair
    | how\ many\ deviate | but\ where\ the | look-around | hair | hangs? | not\ below | round\ about | left\ as\ it\ was
    )\b""",
    re.VERBOSE | re.IGNORECASE,
)
KINDS = {".py", ".md", ".html", ".js", ".toml"}
PLACES = ("src", "docs", "examples", "benchmarks", "tests", "README.md", "CONTRIBUTING.md", "CHANGELOG.md", "web")


def texts():
    for name in PLACES:
        place = ROOT / name
        for path in [place] if place.is_file() else sorted(place.rglob("*")):
            if path.suffix in KINDS and path != Path(__file__) and not {"vendor", "node_modules"} & set(path.parts):
                yield path


def test_no_text_uses_a_word_to_avoid():
    found = []
    for path in texts():
        for number, line in enumerate(path.read_text(encoding="utf-8").splitlines(), 1):
            if hit := REFUSED.search(line):
                found.append(f"{path.relative_to(ROOT)}:{number}: {hit[0]!r} in {line.strip()[:90]}")
    assert not found, "\n".join(found)


@pytest.mark.parametrize("line", ["the mean stands", "it is no number", "two points on the floor", "He told us"])
def test_the_list_is_looked_for(line):
    assert REFUSED.search(line)


@pytest.mark.parametrize("line", ["no file", "there is no file", "the tree in the standard", "a statement of sides"])
def test_plain_lines_pass(line):
    assert not REFUSED.search(line)
