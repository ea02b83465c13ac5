"""Profiles and cross-sections of two surfaces, points to be checked on site, and independent check points."""

import tempfile
from pathlib import Path

import evrin
from evrin.analysis import Alignment, cross_sections
from evrin.demo import ground, lay_out
from evrin.draw import save_pages, section_sheets


def main(folder: Path) -> None:
    """Go along the demo's track with chainage, across it, and compare with the check points."""
    lay_out(folder)
    builds = {name: evrin.Recipe.read(folder / f"{name}.toml").build() for name in ("clean", "raw")}
    clean, raw = (builds[name].surface for name in ("clean", "raw"))
    print(clean)
    track = Alignment.along(ground.centre_line("track")[::6], start=1000.0)
    profiles = [surface.profile(track.points, start=track.start) for surface in (clean, raw)]
    above, below = profiles[1].area_between(profiles[0])
    print(f"along the track, raw lies above clean by {above:.2f} m² of section and below it by {below:.2f} m²")
    print(profiles[0].table(changes=2.0).round(3).head(8).to_string(index=False))

    sections = cross_sections({"clean": clean, "raw": raw}, track, 20.0, left=12.0, right=12.0)
    for section in sections[1:4]:
        own = section.profiles["clean"]
        print(
            f"chainage {section.chainage:.0f}: {own.area(40.0):.2f} m² above 40 m, bearing {section.bearing_deg:.1f}°"
        )
    print([path.name for path in save_pages(section_sheets(sections), folder / "sections.pdf")])

    print(clean.points_along(track, interval=25.0, changes=3.0).head(6).to_string(index=False))
    for name, build in builds.items():
        for _, checked in build.checked:
            figures = checked.figures()
            described = f"RMSE {figures['rmse']:.3f}, 95 % within {figures['percentile_95']:.3f}"
            print(
                f"{name}: {figures['count']} check points, {described}, {figures['beyond']} beyond {checked.tolerance}"
            )


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as temporary:
        main(Path(temporary))
