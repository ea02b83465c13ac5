"""The report and the viewer page, opened in a browser and used with a mouse."""

import json
import re

import numpy as np
import pytest
import tomlkit

import evrin
from evrin import Recipe
from evrin.base.errors import DataError
from evrin.recipe import checked_edit
from evrin.report import look_page, report_page, write_look
from evrin.report import viewer_page as look
from evrin.report.packing import packed, unpacked

_DAY = "2026-05-04"


@pytest.fixture(scope="module")
def pages(demo):
    """Report and viewer page of the clean recipe, linked, and its build."""
    folder = demo[0]
    recipe = Recipe.read(folder / "clean.toml")
    build = recipe.build(keep=True)
    (folder / "report.html").write_text(report_page(build, made_on=_DAY, look="look.html"), encoding="utf-8")
    lines = build.surface.contours(0.25)
    write_look(folder / "look.html", build.surface, build.findings, lines, report="report.html")
    return folder, build


@pytest.fixture
def opened(browser, pages):
    """Open a page at some size; whatever goes wrong in it, or leaves it, fails the test."""
    context = []

    def opener(name, width=1280, height=800, **more):
        page = browser.new_page(viewport={"width": width, "height": height}, **more)
        page.wrong = []
        page.on("pageerror", lambda error: page.wrong.append(str(error)))
        page.on("console", lambda output: page.wrong.append(output.text) if output.type == "error" else None)
        page.on(
            "request",
            lambda asked: None if asked.url.startswith(("file:", "data:", "blob:")) else page.wrong.append(asked.url),
        )
        page.goto((pages[0] / name).as_uri())
        context.append(page)
        return page

    yield opener
    for page in context:
        assert page.wrong == []
        page.close()


@pytest.fixture
def ground(opened):
    page = opened("look.html")
    page.wait_for_selector("#waiting", state="hidden")
    return page


def on_screen(page, x, y, z):
    return page.evaluate("place => look.toScreen(...place)", [x, y, z])


def settle(page):
    page.wait_for_function(
        "() => new Promise(done => requestAnimationFrame(() => requestAnimationFrame(() => done(true))))"
    )


def point_at(page, x, y, z):
    page.mouse.move(*on_screen(page, x, y, z))
    settle(page)
    return page.inner_text("#here-text")


def test_pointing_at_the_ground_shows_height_slope_and_shots(ground, pages):
    surface = pages[1].surface
    for x, y in ((4100.0, 2890.0), (4060.0, 2860.0), (4180.0, 2850.0)):
        z = float(surface.height(x, y))
        output = point_at(ground, x, y, z)
        height = float(re.search(r"height\s+([\d.]+) m", output).group(1))
        east, north = (float(value) for value in re.search(r"place\s+([\d.]+), ([\d.]+)", output).groups())
        assert height == pytest.approx(float(surface.height(east, north)), abs=0.02)
        assert (east, north) == pytest.approx((x, y), abs=0.2)
        triangle = int(surface.triangles_at(east, north))
        for vertex in surface.triangles[triangle]:
            assert surface.provenance.describe(int(vertex)) in output
        assert "1 in " in output and "°" in output
    assert "No ground" in point_at(ground, 4050.0, 2886.0, 43.0)  # the barn is cut out


def middle_of(surface, kind):
    """An edge of the demo well inside its kind: free and flippable, on a breakline, or on the rim."""
    triangles, lines, mates = surface.triangles, surface.edge_lines, surface.mates
    for h in range(len(mates)):
        t, k = divmod(h, 3)
        a, b = surface.vertices[triangles[t, k]], surface.vertices[triangles[t, (k + 1) % 3]]
        if np.hypot(*(a - b)[:2]) < 6.0 or (not (4060 < a[0] < 4190 and 2840 < a[1] < 2908) and kind != "rim"):
            continue
        held = lines[t, k] >= 0
        if {"rim": mates[h] < 0, "line": held and mates[h] >= 0, "free": not held and mates[h] >= 0}[kind]:
            if kind == "free":
                c = surface.vertices[triangles[t, (k + 2) % 3]]
                d = surface.vertices[triangles[mates[h] // 3, (mates[h] % 3 + 2) % 3]]
                if min(np.hypot(*(c - d)[:2]), np.hypot(*(a - b)[:2])) < 6.0:
                    continue
            return a, b
    raise AssertionError(kind)


def click_edge(page, a, b):
    middle = (a + b) / 2.0
    page.mouse.click(*on_screen(page, *middle.tolist()))
    settle(page)
    return page.inner_text("#edge-text"), page.text_content("#snippet")


def test_clicking_an_edge_gives_its_flip_as_a_table_that_the_recipe_takes(ground, pages):
    folder, build = pages
    a, b = middle_of(build.surface, "free")
    output, snippet = click_edge(ground, a, b)
    assert "Its flip (blue) joins" in output
    (table,) = tomlkit.parse(snippet).unwrap()["edit"]
    assert checked_edit(table).do == "flip"
    assert table["at"] == pytest.approx(((a + b) / 2.0)[:2].tolist(), abs=0.001)
    did = Recipe.read(folder / "clean.toml").preview_edit(checked_edit(table), keep=True).did
    assert did.startswith("flipped the edge between")
    assert ground.is_visible("#chosen-edge") and ground.is_visible("#wanted-edge")
    ground.click("#copy")
    ground.wait_for_function("() => document.getElementById('copy').textContent === 'Copied'")


@pytest.mark.parametrize(("kind", "why"), [("rim", "cannot be flipped"), ("line", "is held")])
def test_edges_that_cannot_be_flipped_give_the_reason(ground, pages, kind, why):
    output, snippet = click_edge(ground, *middle_of(pages[1].surface, kind))
    assert why in output and snippet == "" and not ground.is_visible("#snippet")


def test_dragging_moves_the_plan_and_the_wheel_zooms_to_the_pointer(ground):
    here = [4100.0, 2870.0, 43.0]
    x, y = on_screen(ground, *here)
    ground.mouse.move(x, y)
    ground.mouse.down()
    ground.mouse.move(x + 120, y + 60, steps=4)
    ground.mouse.up()
    settle(ground)
    moved = on_screen(ground, *here)
    assert moved == pytest.approx([x + 120, y + 60], abs=6)
    assert not ground.is_visible("#edge")  # a drag is not a click
    ground.mouse.move(*moved)
    before = np.hypot(*np.subtract(on_screen(ground, 4110.0, 2870.0, 43.0), moved))
    ground.mouse.wheel(0, -400)
    settle(ground)
    assert on_screen(ground, *here) == pytest.approx(moved, abs=8)
    assert np.hypot(*np.subtract(on_screen(ground, 4110.0, 2870.0, 43.0), on_screen(ground, *here))) > 1.2 * before
    ground.click("#fit")
    settle(ground)
    assert on_screen(ground, *here) == pytest.approx([x, y], abs=2)


def test_in_three_dimensions_dragging_turns_and_heights_stretch(ground):
    ground.click("#solid")
    settle(ground)
    corner, foot = [4104.0, 2899.0, 46.7], [4104.0, 2899.0, 43.5]
    first = on_screen(ground, *corner)
    rise = on_screen(ground, *foot)[1] - first[1]
    assert rise > 4.0  # what is higher is farther up
    ground.mouse.move(600, 420)
    ground.mouse.down()
    ground.mouse.move(760, 440, steps=5)
    ground.mouse.up()
    settle(ground)
    assert np.hypot(*np.subtract(on_screen(ground, *corner), first)) > 20.0
    ground.evaluate(
        "() => { const s = document.getElementById('stretch'); s.value = 9; s.dispatchEvent(new Event('input')); }"
    )
    settle(ground)
    assert on_screen(ground, *foot)[1] - on_screen(ground, *corner)[1] > 2.0 * rise
    output = point_at(ground, *corner)
    assert "HEAP" in output
    assert ground.get_attribute("#solid", "aria-pressed") == "true" and not ground.is_visible("#scale")


def bytes_of(page):
    settle(page)
    return page.locator("#ground").screenshot()


def test_layers_and_colours_switch(ground):
    before = bytes_of(ground)
    ground.click("#layers summary")
    names = ground.eval_on_selector_all("#switches label", "labels => labels.map(label => label.textContent)")
    assert names == ["triangle edges", "contours", "index contours", "breaklines", "edge of the surface", "findings"]
    ground.uncheck("input[name=edges]")
    without = bytes_of(ground)
    assert without != before
    assert ground.is_visible(".mark")
    ground.uncheck("input[name=marks]")
    settle(ground)
    assert not ground.is_visible(".mark")
    ground.select_option("#shading", "slope")
    assert "steeper" in ground.inner_text("#legend") and bytes_of(ground) != without
    ground.select_option("#shading", "plain")
    assert not ground.is_visible("#legend")


def test_findings_are_marked_listed_and_zoomed_to(ground, pages):
    build = pages[1]
    placed = [k for k, finding in enumerate(build.findings, 1) if finding.place is not None]
    marks = ground.eval_on_selector_all(".mark", "marks => marks.map(mark => Number(mark.textContent))")
    assert marks == placed
    ground.click("#found summary")
    assert ground.inner_text("#found summary") == f"Findings: {len(build.findings)}, 0 open"
    number = next(k for k in placed if build.findings[k - 1].code == "hollow")
    ground.click(f"#findings li:nth-child({number}) button")
    settle(ground)
    x, y = on_screen(ground, *build.findings[number - 1].place, 43.0)
    assert abs(x - 640) < 40 and abs(y - 400) < 40


def test_a_hundred_thousand_triangles_open_and_answer_at_once(browser, tmp_path):
    rng = np.random.default_rng(1)
    xy = rng.uniform(0.0, 1000.0, (50_200, 2)) + [512_000.0, 5_400_000.0]
    z = 30 * np.sin(xy[:, 0] / 90) + 20 * np.cos(xy[:, 1] / 70)
    surface = evrin.triangulate(np.column_stack((xy, z)))
    assert len(surface.triangles) > 100_000
    write_look(tmp_path / "big.html", surface)
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    page.goto((tmp_path / "big.html").as_uri())
    page.wait_for_selector("#waiting", state="hidden")
    output = point_at(page, 512_400.0, 5_400_300.0, 0.0)
    east, north = (float(value) for value in re.search(r"place\s+([\d.]+), ([\d.]+)", output).groups())
    height = float(re.search(r"height\s+(-?[\d.]+) m", output).group(1))
    assert height == pytest.approx(float(surface.height(east, north)), abs=0.02)
    page.close()


def test_a_browser_without_graphics_is_informed(browser, pages):
    page = browser.new_page()
    page.add_init_script("HTMLCanvasElement.prototype.getContext = () => null")
    page.goto((pages[0] / "look.html").as_uri())
    page.wait_for_function("() => document.getElementById('waiting').textContent.includes('WebGL')")
    page.close()


def test_what_a_page_is_given_comes_back_to_the_last_bit(pages):
    surface = pages[1].surface
    facts, arrays = look.page_data(surface, pages[1].findings, surface.contours(0.5))
    again, parts = unpacked(packed(facts, arrays))
    assert json.loads(json.dumps(facts)) == again
    assert all(parts[name].tobytes() == np.ascontiguousarray(array).tobytes() for name, array in arrays.items())
    assert packed(facts, arrays) == packed(facts, arrays)
    back = parts["vertices"].reshape(-1, 3) + again["origin"]
    assert np.abs(back - surface.vertices).max() < 1e-9
    assert len(again["shots"]) == len(surface.vertices) and len(again["findings"]) == len(pages[1].findings)


def test_too_many_triangles_for_a_page_are_refused(monkeypatch, tmp_path):
    monkeypatch.setattr(look, "MOST_TRIANGLES", 1)
    with pytest.raises(DataError, match="2 triangles are more than a page can show"):
        look_page(evrin.triangulate([[0, 0, 0], [9, 0, 0], [9, 9, 0], [0, 9, 0]]))
    with pytest.raises(DataError, match=r"a page is \.html"):
        write_look(tmp_path / "a.pdf", evrin.triangulate([[0, 0, 0], [9, 0, 0], [9, 9, 0]]))


def test_texts_of_the_field_book_cannot_break_a_page(browser, tmp_path):
    surface = evrin.triangulate([[0, 0, 0], [9, 0, 0], [9, 9, 0], [0, 9, 0]], name="</script><b>Weir & leat</b>")
    write_look(tmp_path / "odd.html", surface)
    page = browser.new_page()
    page.goto((tmp_path / "odd.html").as_uri())
    page.wait_for_selector("#waiting", state="hidden")
    assert page.inner_text("h1") == "</script><b>Weir & leat</b>"
    page.close()


def test_the_report_shows_the_whole_build(opened, pages):
    folder, build = pages
    page = opened("report.html")
    heads = page.eval_on_selector_all("h2", "heads => heads.map(head => head.textContent)")
    annexes = ["Findings", "Check points", "Volumes", "Maps", "Slopes", "Profiles", "Sources", "Figures", "Recipe"]
    assert heads == [f"Annex {letter}: {title}" for letter, title in zip("ABCDEFGHI", annexes, strict=True)]
    first = page.inner_text("#summary")
    for word in ("Leat Field Surveys", "2026-05-12", "Ostrel Weir Trust", "26-014", "bench mark", "RMSE", "design of"):
        assert word in first
    assert (folder / "report.html").stat().st_size < 2_000_000
    assert page.inner_text("h1") == "Ostrel Weir, existing ground" and _DAY in page.inner_text("header")
    listed = page.eval_on_selector_all("ol.findings > li", "items => items.map(item => item.innerText)")
    assert len(listed) == len(build.findings)
    assert all(finding.message in text for finding, text in zip(build.findings, listed, strict=True))
    assert all(
        finding.accepted in text for finding, text in zip(build.findings, listed, strict=True) if finding.accepted
    )
    body = page.inner_text("main")
    for word in ("within tolerance", "RMSE", "1,377", "20,719", "track log", "what each file gave", "plan area"):
        assert word.lower() in body.lower()
    assert page.inner_text("pre.recipe").strip() == (folder / "clean.toml").read_text(encoding="utf-8").strip()
    loaded = page.eval_on_selector_all("img", "all => all.map(each => [each.complete, each.naturalWidth, each.alt])")
    assert len(loaded) >= 9 and all(complete and width > 1000 and alt for complete, width, alt in loaded)
    tally = page.inner_text("#sources table")
    assert f"{int(build.tally['used'].iloc[-1]):,}" in tally
    for link in page.eval_on_selector_all("nav a", "links => links.map(link => link.getAttribute('href'))"):
        assert page.locator(link).count() == 1


def test_the_report_fits_a_phone_and_leads_to_the_other_page(opened):
    page = opened("report.html", width=390, height=844)
    assert page.evaluate("() => document.documentElement.scrollWidth <= innerWidth")
    assert page.evaluate("() => [...document.images].every((each) => each.getBoundingClientRect().right <= innerWidth)")
    # What scrolls can be reached and scrolled by keys.
    assert page.evaluate("() => [...document.querySelectorAll('.wide')].every((each) => each.tabIndex === 0)")
    first = page.evaluate("() => document.querySelector('main').innerText.split('\\n').slice(0, 8).join(' ')")
    assert "open findings" in first and "m²" in first and "in height" in first and "RMSE" in first
    page.click("header p a")
    page.wait_for_selector("#waiting", state="hidden")
    assert page.url.endswith("look.html")
    page.click("header a")
    page.wait_for_selector("h2")
    assert page.url.endswith("report.html")


def test_on_a_phone_the_layers_open_on_the_screen_and_touch_has_its_own_words(browser, pages):
    page = browser.new_page(viewport={"width": 390, "height": 780}, has_touch=True, is_mobile=True)
    page.goto((pages[0] / "look.html").as_uri())
    page.wait_for_selector("#waiting", state="hidden")
    page.click("#layers summary")
    box = page.locator("#switches").bounding_box()
    assert box["x"] >= 0 and box["x"] + box["width"] <= 390 and box["y"] + box["height"] <= 780
    page.locator("#switches input").first.uncheck()
    assert "one finger" in page.inner_text("#how")
    page.close()


def test_keys_do_what_mouse_and_fingers_do_and_the_legend_shows_where_colours_end(opened):
    page = opened("look.html")
    page.wait_for_selector("#waiting", state="hidden")
    assert "Keys" in page.inner_text("#how")
    ends = page.inner_text("#legend .ends")
    assert "≤" in ends and "≥" in ends
    apart = "() => look.toScreen(4150, 2850, 42)[0] - look.toScreen(4050, 2850, 42)[0]"
    page.focus("#ground")
    whole = page.evaluate(apart)
    page.keyboard.press("+")
    assert page.evaluate(apart) == pytest.approx(1.25 * whole, rel=0.01)
    page.keyboard.press("0")
    assert page.evaluate(apart) == pytest.approx(whole, rel=0.01)
    page.keyboard.press("3")
    assert page.get_attribute("#solid", "aria-pressed") == "true"
    before = page.evaluate(apart)
    page.keyboard.press("e")
    assert page.evaluate(apart) != pytest.approx(before, rel=1e-3)
    page.keyboard.press("p")
    assert page.get_attribute("#plan", "aria-pressed") == "true"


def test_marks_behind_the_ground_are_seen_through_it_only_faintly(opened):
    page = opened("look.html")
    page.wait_for_selector("#waiting", state="hidden")
    assert page.locator(".mark.behind").count() == 0
    page.click("#solid")
    page.fill("#stretch", "20")
    page.wait_for_timeout(400)
    marks = page.locator(".mark:not([hidden])").count()
    assert 0 < page.locator(".mark.behind").count() < marks


def test_the_report_prints_on_pages(opened):
    printed = opened("report.html").pdf(prefer_css_page_size=True)
    assert printed.startswith(b"%PDF") and 8 <= len(re.findall(rb"/Type\s*/Page[^s]", printed)) <= 24


@pytest.mark.slow
def test_the_same_build_gives_the_same_report(pages):
    folder, build = pages
    recipe = Recipe.read(folder / "clean.toml")
    quiet = {"made_on": _DAY, "interval": 1.0}
    # Whatever came from cache, and whether anything did.
    assert report_page(build, **quiet) == report_page(recipe.build(), **quiet)
    with pytest.raises(DataError, match="must be above 0"):
        report_page(build, interval=0.0)


@pytest.mark.slow
def test_open_findings_and_failed_check_points_are_prominent_in_the_report(browser, run, tmp_path):
    words = ("report", "raw.toml", "-o", tmp_path / "raw.html", "--look", tmp_path / "look.html", "--day", _DAY)
    done = run(*words, "--along", "4078,2889 4112,2902", "--along", "field/track-centre.csv", "--interval", "1", code=1)
    assert done.stdout == "" and "draw the trust map" in done.stderr and done.stderr.count("wrote") == 2
    page = browser.new_page()
    page.goto((tmp_path / "raw.html").as_uri())
    tiles = page.eval_on_selector_all(".tiles .bad", "tiles => tiles.map(tile => tile.innerText)")
    assert "not within tolerance" in tiles[0] and tiles[1].startswith("17 open")
    snippets = page.eval_on_selector_all("ol.findings pre", "all => all.map(each => each.textContent)")
    assert sum("[[leave_out]]" in text for text in snippets) == 8 and sum("flip" in text for text in snippets) == 3
    assert page.inner_text("#profiles").count("Profile along") == 2
    page.close()
    run("look", "ground.xml", "-o", tmp_path / "bare.html")
    assert (tmp_path / "bare.html").stat().st_size > 250_000


@pytest.mark.slow
def test_a_recipe_without_check_points_or_reasons_has_a_report_too(tmp_path):
    from sites import grid_field, lay_out

    recipe = Recipe.read(lay_out(tmp_path, field=grid_field(8)))
    text = report_page(recipe.build())
    assert (
        "names no independent check points" in text and "Nothing looks wrong" in text and "What was decided" not in text
    )
