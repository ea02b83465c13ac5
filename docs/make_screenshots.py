"""Make every picture in docs/screenshots from the demo data."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from rich.console import Console
from rich.text import Text

HERE = Path(__file__).parent / "screenshots"
# Without a screen the surface is painted by the processor.
BROWSER = ["--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--ignore-gpu-blocklist"]
COMMAND = [sys.executable, "-m", "evrin.cli.app"]
ALONG = "4078,2889.25 4112,2902 4096,2832"
VARIANT = (
    ("smallest_angle_deg = 1.0", "smallest_angle_deg = 12.0"),
    ("by      = 0.15", "by      = 0.20"),
    ("reach  = true\n", ""),
)
DAY = "2026-05-04"
ACROSS = "--along field/track-centre.csv --every 15 --left 12 --right 12"
SHEETS = {
    "view": "view clean.toml --interval 0.5",
    "check-points": "height raw.toml --points field/check.csv --columns PNEZD --tolerance 0.06",
    "water": "water clean.toml",
    "trust": "trust clean.toml",
    "combine": "combine clean.toml earthworks/corner-later.xml",
    "pad": "pad clean.toml --outline earthworks/lay-by.geojson --balance --interval 0.25",
}
OUT = {"view": ("-o",)}


def run(folder: Path, *words: str) -> str:
    """Run a command in the demo's folder and return what it prints."""
    environment = {**os.environ, "PYTHONWARNINGS": "ignore"}
    # The pictures may have come with a checkout.
    replacing = ["--overwrite"] if any(str(HERE) in word for word in words) else []
    done = subprocess.run(
        [*COMMAND, *words, *replacing], cwd=folder, capture_output=True, text=True, env=environment, check=False
    )
    if done.returncode not in (0, 1):
        raise SystemExit(done.stderr)
    return done.stdout


def picture_of(text: str, title: str, path: Path) -> None:
    """Draw terminal text as a picture."""
    from matplotlib.figure import Figure

    lines = Text.from_ansi(text).plain.rstrip().splitlines()
    widest = max(len(line.rstrip()) for line in lines)
    size = min(10.5, 1380.0 / widest)
    figure = Figure(figsize=(12.8, max(3.0, 0.7 + len(lines) * size * 0.0195)), dpi=100, facecolor="#f6f4ef")
    figure.text(
        0.02, 1.0 - 0.25 / figure.get_figheight(), f"$ {title}", fontsize=10.5, family="monospace", color="#0b6e69"
    )
    body = "\n".join(line.rstrip() for line in lines)
    figure.text(
        0.02,
        1.0 - 0.5 / figure.get_figheight(),
        body,
        fontsize=size,
        family="monospace",
        va="top",
        linespacing=1.3,
        color="#22303c",
        parse_math=False,
    )
    figure.savefig(path)


def picture_of_page(page: Path, path: Path, press: str = "") -> None:
    """Open a page in a browser, press a button of it, and take its picture."""
    from playwright.sync_api import sync_playwright

    browser_path = os.environ.get("EVRIN_BROWSER") or shutil.which("chromium") or shutil.which("google-chrome")
    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path=browser_path, args=BROWSER)
        shown = browser.new_page(viewport={"width": 1280, "height": 800})
        shown.goto(page.as_uri())
        if press:
            shown.wait_for_selector("#waiting", state="hidden")
            shown.click(press)
            # Pointing works once the ground is painted.
            shown.wait_for_timeout(1500)
            shown.mouse.move(560, 420)
            shown.wait_for_selector("#here-text:has-text('height')")
        shown.wait_for_timeout(1500)
        shown.screenshot(path=path)
        browser.close()


def main() -> None:
    """Lay out the demo in a folder of its own and picture each command's output."""
    HERE.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        printed = run(folder, "demo", "ostrel-weir")
        picture_of(printed, "evrin demo", HERE / "demo.png")
        site = folder / "ostrel-weir"
        (HERE / "before-after.png").write_bytes((site / "before-after.png").read_bytes())
        run(site, "inspect", "received/old-survey.dxf", "-o", str(HERE / "inspect.png"))
        picture_of(run(site, "build", "clean.toml"), "evrin build clean.toml", HERE / "build.png")
        picture_of(run(site, "check", "raw.toml"), "evrin check raw.toml", HERE / "check.png")
        variant = (site / "clean.toml").read_text(encoding="utf-8")
        for before, after in VARIANT:
            variant = variant.replace(before, after)
        (site / "variant.toml").write_text(variant, encoding="utf-8")
        run(site, "compare", "clean.toml", "variant.toml", "-o", str(HERE / "compare.png"))
        run(site, "map", "clean.toml", "-o", str(HERE / "map.png"), "--interval", "0.25", "--smooth", "1")
        for name, words in SHEETS.items():
            run(site, *words.split(), *OUT.get(name, ("-o",)), str(HERE / f"{name}.png"))
        works = ("earthworks/bed-before.xml", "earthworks/bed-after.xml", "--no-change", "0.1")
        run(site, "volume", *works, "--bands=-0.5,-0.3,0,0.3", "-o", str(HERE / "volume.png"))
        holes = ("--holes", "earthworks/boreholes.csv", "--along", "4133,2874 4156,2914")
        run(site, "layers", "clean.toml", *holes, "--down-to", "41.3", "-o", str(HERE / "layers.png"))
        run(site, "sections", "clean.toml", "raw.toml", *ACROSS.split(), "-o", str(folder / "sections.png"))
        (HERE / "sections.png").write_bytes((folder / "sections-1.png").read_bytes())
        run(site, "report", "clean.toml", "-o", "report.html", "--look", "look.html", "--along", ALONG, "--day", DAY)
        picture_of_page(site / "report.html", HERE / "report.png")
        picture_of_page(site / "look.html", HERE / "look.png", "#solid")
        run(site, "profile", "clean.toml", "raw.toml", "--along", ALONG, "-o", str(HERE / "profile.png"))
    Console().print(f"{len(list(HERE.glob('*.png')))} pictures in {HERE}")


if __name__ == "__main__":
    main()
