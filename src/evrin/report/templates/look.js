"use strict";
(async () => {
  const by = (id) => document.getElementById(id);

  async function unpacked(text) {
    const bytes = Uint8Array.from(atob(text), (letter) => letter.charCodeAt(0));
    const stream = new Blob([bytes]).stream().pipeThrough(new DecompressionStream("gzip"));
    return new Response(stream).arrayBuffer();
  }

  async function opened() {
    const script = document.createElement("script");
    script.textContent = new TextDecoder().decode(await unpacked(by("kit").textContent)) + ";globalThis.kit = kit;";
    document.head.append(script);
    const buffer = await unpacked(by("data").textContent);
    const length = new DataView(buffer).getUint32(0, true);
    const facts = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, length)));
    const kinds = { float64: Float64Array, float32: Float32Array, int32: Int32Array };
    const arrays = {};
    for (const [name, { kind, at, count }] of Object.entries(facts.arrays)) {
      arrays[name] = new kinds[kind](buffer, 4 + length + at, count);
    }
    return [facts, arrays];
  }

  const fail = (why) => {
    by("waiting").hidden = false;
    by("waiting").textContent = why;
  };
  let facts, arrays;
  try {
    [facts, arrays] = await opened();
  } catch (error) {
    fail("This browser cannot open the surface: " + error.message);
    return;
  }
  // A machine without a graphics card paints every dot itself and is spared the smoothing of edges.
  function isSlow() {
    const probe = document.createElement("canvas").getContext("webgl2");
    const info = probe?.getExtension("WEBGL_debug_renderer_info");
    const name = info ? probe.getParameter(info.UNMASKED_RENDERER_WEBGL) : "";
    probe?.getExtension("WEBGL_lose_context")?.loseContext();
    return /swiftshader|llvmpipe|software/i.test(name);
  }
  const { vertices, triangles, mates, edge_lines: edgeLines } = arrays;
  const count = triangles.length / 3;
  const K = globalThis.kit;
  let renderer;
  try {
    renderer = new K.WebGLRenderer({ canvas: by("ground"), antialias: !isSlow() });
  } catch {
    fail("This browser shows no 3-D graphics (WebGL), which the page needs; the report holds the same as pictures.");
    return;
  }
  renderer.setPixelRatio(Math.min(devicePixelRatio, 2));
  renderer.setClearColor(0xf6f4ef);

  // The triangles, each with corners of its own, so that each has one colour and one light.
  const positions = new Float32Array(9 * count);
  const colours = new Float32Array(9 * count);
  const slopes = new Float64Array(count);
  let lowest = Infinity, highest = -Infinity;
  const corner = (v) => [vertices[3 * v], vertices[3 * v + 1], vertices[3 * v + 2]];
  const gradient = (t) => {
    const [a, b, c] = [0, 1, 2].map((k) => corner(triangles[3 * t + k]));
    const [ux, uy, uz, vx, vy, vz] = [b[0] - a[0], b[1] - a[1], b[2] - a[2], c[0] - a[0], c[1] - a[1], c[2] - a[2]];
    const twice = ux * vy - uy * vx;
    return twice === 0 ? [Infinity, Infinity] : [(uz * vy - vz * uy) / twice, (vz * ux - uz * vx) / twice];
  };
  for (let i = 0; i < 3 * count; i++) {
    for (let k = 0; k < 3; k++) positions[3 * i + k] = vertices[3 * triangles[i] + k];
    lowest = Math.min(lowest, positions[3 * i + 2]);
    highest = Math.max(highest, positions[3 * i + 2]);
  }
  for (let t = 0; t < count; t++) slopes[t] = Math.hypot(...gradient(t));

  const ground = new K.BufferGeometry();
  ground.setAttribute("position", new K.BufferAttribute(positions, 3));
  ground.setAttribute("color", new K.BufferAttribute(colours, 3));
  ground.computeVertexNormals();
  ground.boundsTree = new K.MeshBVH(ground, { indirect: true });
  const material = new K.MeshLambertMaterial({ vertexColors: true, side: K.DoubleSide, flatShading: true,
    polygonOffset: true, polygonOffsetFactor: 1, polygonOffsetUnits: 2 });
  const mesh = new K.Mesh(ground, material);
  mesh.raycast = K.acceleratedRaycast;

  const scene = new K.Scene();
  const site = new K.Scene();
  scene.add(site);
  site.add(mesh);
  const sun = new K.DirectionalLight(0xffffff, 2.7);
  sun.position.set(-1, 1, 1.6);
  scene.add(sun, new K.AmbientLight(0xffffff, 1.5));

  // Lines lie on the ground; the ground is drawn a little deeper.
  const layers = {};
  function addLines(name, label, data, colour, shown = true) {
    if (!data.length) return;
    const lines = new K.BufferGeometry();
    lines.setAttribute("position", new K.BufferAttribute(Float32Array.from(data), 3));
    layers[name] = { label, object: new K.LineSegments(lines, new K.LineBasicMaterial({ color: colour })), shown };
    site.add(layers[name].object);
  }
  const edges = [], breaklines = [], rings = [];
  for (let h = 0; h < 3 * count; h++) {
    if (mates[h] > h) continue;
    const t = Math.floor(h / 3);
    const ends = [...corner(triangles[h]), ...corner(triangles[3 * t + ((h + 1) % 3)])];
    const line = edgeLines[h];
    (mates[h] < 0 ? rings : line < 0 ? edges : breaklines).push(...ends);
  }
  addLines("edges", "triangle edges", edges, 0x5c6873, count <= 40000);
  addLines("contours", "contours", arrays.contours || [], 0xa8764a);
  addLines("index", "index contours", arrays.index_contours || [], 0x6b3d17);
  addLines("breaklines", "breaklines", breaklines, 0x0b6e69);
  addLines("rings", "edge of the surface", rings, 0x5b2a86);
  layers.marks = { label: "findings", shown: true };

  // The edge that was clicked and its flip are drawn over all else.
  const chosen = { "chosen-edge": [], "wanted-edge": [] };

  // Two cameras: one straight from above, one that turns.
  const box = new K.Vector3(), middle = new K.Vector3();
  ground.computeBoundingBox();
  ground.boundingBox.getSize(box);
  ground.boundingBox.getCenter(middle);
  // What lies far away from all the rest, such as control, is not what to look at first.
  const [west, south, east, north] = facts.window;
  box.set(east - west, north - south, box.z);
  middle.set((west + east) / 2, (south + north) / 2, (facts.range[0] + facts.range[1]) / 2);
  const span = Math.max(box.x, box.y, 1e-3);
  const above = new K.OrthographicCamera(-1, 1, 1, -1, -10 * span, 10 * span);
  const eye = new K.PerspectiveCamera(40, 1, span / 1000, span * 20);
  // Looking straight down, north is at the top.
  above.up.set(0, 1, 0);
  eye.up.set(0, 0, 1);
  const panning = new K.OrbitControls(above, renderer.domElement);
  panning.enableRotate = false;
  panning.mouseButtons = { LEFT: K.MOUSE.PAN, MIDDLE: K.MOUSE.DOLLY, RIGHT: K.MOUSE.PAN };
  panning.touches = { ONE: K.TOUCH.PAN, TWO: K.TOUCH.DOLLY_PAN };
  const turning = new K.OrbitControls(eye, renderer.domElement);
  turning.maxPolarAngle = 0.495 * Math.PI;
  for (const controls of [panning, turning]) {
    controls.zoomToCursor = true;
    controls.listenToKeyEvents(renderer.domElement);
    controls.addEventListener("change", () => draw(true));
  }
  let isPlan = true;
  let stretch = facts.exaggeration;

  function fit() {
    const side = by("panel").offsetWidth < innerWidth / 2 ? by("panel").offsetWidth + 24 : 0;
    const across = Math.max(box.x / Math.max(innerWidth - side, 100), box.y / Math.max(innerHeight - 130, 100)) * 1.06;
    const shift = (side / 2) * across;
    above.zoom = 1;
    above.left = (-innerWidth / 2) * across;
    above.right = (innerWidth / 2) * across;
    above.top = (innerHeight / 2) * across;
    above.bottom = (-innerHeight / 2) * across;
    panning.target.set(middle.x + shift, middle.y + 30 * across, 0);
    above.position.set(panning.target.x, panning.target.y, span);
    above.updateProjectionMatrix();
    const away = Math.max(box.y * 1.1, (box.x * 1.15 * innerHeight) / Math.max(innerWidth - side, 100)) / Math.tan(0.349) / 1.5;
    turning.target.set(middle.x + 0.1 * span * (side ? 1 : 0), middle.y, middle.z * stretch);
    eye.position.set(turning.target.x - 0.55 * away, turning.target.y - 0.75 * away, turning.target.z + 0.62 * away);
    panning.update();
    turning.update();
    draw();
  }

  const camera = () => (isPlan ? above : eye);
  function show(plan) {
    isPlan = plan;
    panning.enabled = plan;
    turning.enabled = !plan;
    by("plan").setAttribute("aria-pressed", String(plan));
    by("solid").setAttribute("aria-pressed", String(!plan));
    by("stretching").hidden = by("scale").hidden = false;
    by("stretching").hidden = plan;
    by("scale").hidden = !plan;
    site.scale.z = plan ? 1 : stretch;
    site.updateMatrixWorld(true);
    draw();
  }

  // Where frames come slowly, the picture is coarser while it moves and sharp again when it rests.
  let asked = false, before = 0, level = 1, rest = 0;
  const sharp = renderer.getPixelRatio(), frames = [];
  function setSharpness(ratio) {
    if (Math.abs(renderer.getPixelRatio() - ratio) > 1e-6) renderer.setPixelRatio(ratio);
  }
  function draw(moving = false) {
    if (asked) return;
    asked = true;
    requestAnimationFrame((now) => {
      asked = false;
      const gap = now - before;
      before = now;
      if (moving && gap < 2000) {
        frames.push(gap);
        if (frames.length > 200) frames.shift();
        if (gap > 50) level = Math.max(level * 0.7, 0.35);
      }
      setSharpness(moving ? sharp * level : sharp);
      const spared = moving && level < 0.6 ? ["edges", "contours", "index"].filter((name) => layers[name]?.shown) : [];
      for (const name of spared) layers[name].object.visible = false;
      renderer.render(scene, camera());
      for (const name of spared) layers[name].object.visible = true;
      placeMarks();
      if (isPlan) rule();
      clearTimeout(rest);
      if (moving && level < 1) rest = setTimeout(draw, 250);
    });
  }
  function resize() {
    renderer.setSize(innerWidth, innerHeight, false);
    eye.aspect = innerWidth / innerHeight;
    eye.updateProjectionMatrix();
    fit();
  }

  // Colours and their legend.
  const numbers = (hex) => { const c = new K.Color(hex); return [c.r, c.g, c.b]; };
  const ramp = facts.heights.map(numbers), bands = facts.slopes.map((band) => ({ ...band, rgb: numbers(band.colour) }));
  function shade(kind) {
    for (let t = 0; t < count; t++) {
      for (let k = 0; k < 3; k++) {
        const at = 9 * t + 3 * k;
        let rgb = [0.86, 0.85, 0.82];
        if (kind === "height") {
          const whole = (positions[at + 2] - facts.range[0]) / (facts.range[1] - facts.range[0] || 1);
          const part = Math.min(Math.max(whole, 0), 1) * (ramp.length - 1);
          const below = Math.min(Math.floor(part), ramp.length - 2), rest = part - below;
          rgb = ramp[below].map((value, j) => value + rest * (ramp[below + 1][j] - value));
        } else if (kind === "slope") {
          rgb = bands.find((band) => slopes[t] < band.below || band.below > 1e8).rgb;
        }
        colours.set(rgb, at);
      }
    }
    ground.attributes.color.needsUpdate = true;
    const legend = by("legend");
    legend.hidden = kind === "plain";
    if (kind === "height") {
      // Where the ground continues beyond the ends of the colours, the ends show it.
      const beyond = [lowest < facts.range[0] - 0.005 ? "≤ " : "", highest > facts.range[1] + 0.005 ? "≥ " : ""];
      const ends = facts.range.map((z, k) => `<span>${beyond[k]}${(z + facts.origin[2]).toFixed(2)}</span>`).join("");
      legend.innerHTML = `height (${facts.units})<div class="ramp" style="background:linear-gradient(90deg,${facts.heights})"></div><div class="ends">${ends}</div>`;
    } else if (kind === "slope") {
      legend.innerHTML = bands.map((band) => `<div><span class="swatch" style="background:${band.colour}"></span>${band.name}</div>`).join("");
    }
    draw();
  }
  function rule() {
    const perPixel = (above.right - above.left) / above.zoom / innerWidth;
    const wanted = 130 * perPixel, power = 10 ** Math.floor(Math.log10(wanted));
    const length = [5, 2, 1].map((k) => k * power).find((step) => step <= wanted);
    by("rule").style.width = `${length / perPixel}px`;
    by("ruled").textContent = `${+length.toPrecision(3)} ${facts.units}`;
  }

  // What is under the pointer.
  const ray = new K.Raycaster();
  ray.firstHitOnly = true;
  function hit(event) {
    const at = new K.Vector2((event.clientX / innerWidth) * 2 - 1, 1 - (event.clientY / innerHeight) * 2);
    ray.setFromCamera(at, camera());
    const found = ray.intersectObject(mesh)[0];
    if (!found) return null;
    const place = site.worldToLocal(found.point.clone());
    return { triangle: found.faceIndex, x: place.x, y: place.y };
  }
  const fixed = (value, digits) => value.toFixed(digits);
  const where = (x, y) => `${fixed(x + facts.origin[0], 2)}, ${fixed(y + facts.origin[1], 2)}`;
  const safe = (text) => { const span = document.createElement("span"); span.textContent = text; return span.innerHTML; };
  function showHere(found) {
    if (!found) {
      by("here-text").textContent = "No ground here.";
      return;
    }
    const { triangle: t, x, y } = found;
    const a = corner(triangles[3 * t]), [east, north] = gradient(t);
    const z = a[2] + east * (x - a[0]) + north * (y - a[1]) + facts.origin[2];
    const slope = slopes[t];
    const steep = !isFinite(slope) ? "upright" : slope < 1e-9 ? "level"
      : `${fixed(100 * slope, 1)} %, ${fixed((Math.atan(slope) * 180) / Math.PI, 1)}°, 1 in ${+(1 / slope).toPrecision(3)}`;
    const shots = [0, 1, 2].map((k) => {
      const v = triangles[3 * t + k], [vx, vy, vz] = corner(v);
      return `<li>${safe(facts.shots[v])}: ${fixed(vz + facts.origin[2], 3)}, ${fixed(Math.hypot(vx - x, vy - y), 2)} ${facts.units} away</li>`;
    });
    by("here-text").innerHTML = `<table><tr><td>place</td><td>${where(x, y)}</td></tr><tr><td>height</td><td>${fixed(z, 3)} ${facts.units}</td></tr>` +
      `<tr><td>slope</td><td>${steep}</td></tr></table><ul>${shots.join("")}</ul>`;
  }

  // The edge nearest to a click, and the flip of it.
  const cross = (o, p, q) => (p[0] - o[0]) * (q[1] - o[1]) - (p[1] - o[1]) * (q[0] - o[0]);
  function nearestEdge({ triangle: t, x, y }) {
    let best = -1, least = Infinity;
    for (let k = 0; k < 3; k++) {
      const a = corner(triangles[3 * t + k]), b = corner(triangles[3 * t + ((k + 1) % 3)]);
      const [dx, dy] = [b[0] - a[0], b[1] - a[1]];
      const part = Math.min(Math.max(((x - a[0]) * dx + (y - a[1]) * dy) / (dx * dx + dy * dy || 1), 0), 1);
      const away = Math.hypot(x - a[0] - part * dx, y - a[1] - part * dy);
      if (away < least) [best, least] = [3 * t + k, away];
    }
    return best;
  }
  const place = (p) => `[${fixed(p[0] + facts.origin[0], 3)}, ${fixed(p[1] + facts.origin[1], 3)}]`;
  function tellEdge(found) {
    by("edge").hidden = !found;
    chosen["chosen-edge"] = chosen["wanted-edge"] = [];
    if (found) {
      const h = nearestEdge(found), t = Math.floor(h / 3), e = mates[h];
      const [v, w] = [triangles[h], triangles[3 * t + ((h + 1) % 3)]], [a, b] = [corner(v), corner(w)];
      chosen["chosen-edge"] = [a, b];
      let why = "", snippet = "";
      if (e < 0) why = "It is the edge of the surface and cannot be flipped.";
      else if (edgeLines[h] >= 0) why = `It lies on ${facts.lines[edgeLines[h]].name} and is held.`;
      else {
        const [p, q] = [triangles[3 * t + ((h + 2) % 3)], triangles[3 * Math.floor(e / 3) + ((e + 2) % 3)]];
        const [c, d] = [corner(p), corner(q)];
        if (!(cross(d, a, c) * cross(d, b, c) < 0)) why = "It cannot be flipped: the four corners around it are not convex.";
        else {
          chosen["wanted-edge"] = [c, d];
          why = `Its flip (blue) joins ${facts.shots[p]} and ${facts.shots[q]}. Into the recipe:`;
          const at = [(a[0] + b[0]) / 2, (a[1] + b[1]) / 2];
          snippet = `[[edit]]\ndo = "flip"\nat = ${place(at)}\njoins = [${place(c)}, ${place(d)}]\nwhy = ""`;
        }
      }
      by("edge-text").textContent = `From ${facts.shots[v]} to ${facts.shots[w]}, ${fixed(Math.hypot(b[0] - a[0], b[1] - a[1]), 2)} ${facts.units} long. ${why}`;
      by("snippet").textContent = snippet;
      by("snippet").hidden = by("copy").hidden = !snippet;
    }
    draw();
  }

  // Findings, marked and listed.
  const marks = [];
  facts.findings.forEach((finding, k) => {
    const item = document.createElement("li"), button = document.createElement("button");
    button.type = "button";
    button.innerHTML = `<b>${safe(finding.code)}</b>: ${safe(finding.message)}`;
    item.className = finding.open ? "" : "settled";
    item.append(button);
    if (finding.snippet) {
      const text = document.createElement("pre");
      text.textContent = finding.snippet;
      item.append(text);
    }
    by("findings").append(item);
    if (!finding.place) return;
    const [x, y] = [finding.place[0] - facts.origin[0], finding.place[1] - facts.origin[1]];
    button.addEventListener("click", () => goTo(x, y));
    const mark = document.createElement("div");
    mark.className = finding.open ? "mark open" : "mark";
    mark.textContent = k + 1;
    by("marks").append(mark);
    ray.set(new K.Vector3(x, y, highest + span), new K.Vector3(0, 0, -1));
    const ground = ray.intersectObject(mesh)[0];
    marks.push({ mark, at: new K.Vector3(x, y, ground ? ground.point.z : lowest) });
  });
  const open = facts.findings.filter((finding) => finding.open).length;
  by("found").hidden = !facts.findings.length;
  by("found").firstElementChild.textContent = `Findings: ${facts.findings.length}, ${open} open`;
  function onScreen(point) {
    const at = new K.Vector3(point[0], point[1], point[2] * site.scale.z).project(camera());
    return [((at.x + 1) / 2) * innerWidth, ((1 - at.y) / 2) * innerHeight];
  }
  const sight = new K.Raycaster();
  sight.firstHitOnly = true;
  function isBehindGround(spot) {
    const way = spot.clone().sub(eye.position), far = way.length();
    sight.set(eye.position, way.normalize());
    const ground = sight.intersectObject(mesh)[0];
    return Boolean(ground) && ground.distance < far - Math.max(0.01 * far, 0.2);
  }
  function placeMarks() {
    for (const [id, ends] of Object.entries(chosen)) {
      by(id).toggleAttribute("hidden", !ends.length);
      if (!ends.length) continue;
      const [[x1, y1], [x2, y2]] = ends.map(onScreen);
      Object.entries({ x1, y1, x2, y2 }).forEach(([name, value]) => by(id).setAttribute(name, value));
    }
    const at = new K.Vector3();
    for (const each of marks) {
      at.copy(each.at);
      at.z *= site.scale.z;
      each.mark.classList.toggle("behind", !isPlan && isBehindGround(at));
      at.project(camera());
      const seen = layers.marks.shown && at.z < 1 && Math.abs(at.x) < 1.05 && Math.abs(at.y) < 1.05;
      each.mark.hidden = !seen;
      if (seen) {
        each.mark.style.left = `${((at.x + 1) / 2) * innerWidth}px`;
        each.mark.style.top = `${((1 - at.y) / 2) * innerHeight}px`;
      }
    }
  }
  function goTo(x, y) {
    const controls = isPlan ? panning : turning, moved = new K.Vector3(x, y, controls.target.z).sub(controls.target);
    controls.target.add(moved);
    camera().position.add(moved);
    if (isPlan) {
      above.zoom = Math.max(above.zoom, (above.right - above.left) / (span / 4));
      above.updateProjectionMatrix();
    }
    controls.update();
    draw();
  }

  // Keys do what mouse and fingers do.
  const closer = (factor) => {
    if (isPlan) above.zoom *= factor;
    else eye.position.sub(turning.target).divideScalar(factor).add(turning.target);
    camera().updateProjectionMatrix();
    (isPlan ? panning : turning).update();
    draw();
  };
  const turned = (degrees) => {
    if (isPlan) return;
    eye.position.sub(turning.target).applyAxisAngle(new K.Vector3(0, 0, 1), (degrees * Math.PI) / 180).add(turning.target);
    turning.update();
    draw();
  };
  const keys = {
    "+": () => closer(1.25), "=": () => closer(1.25), "-": () => closer(0.8), 0: fit, Home: fit,
    q: () => turned(-15), e: () => turned(15), p: () => show(true), 3: () => show(false),
  };
  renderer.domElement.addEventListener("keydown", (event) => {
    const act = event.ctrlKey || event.metaKey || event.altKey ? null : keys[event.key] ?? keys[event.key.toLowerCase()];
    if (!act) return;
    event.preventDefault();
    act();
  });
  by("how").textContent = matchMedia("(pointer: coarse)").matches
    ? "Tap the ground for its height, slope and shots, and near an edge for its flip. Drag with one finger, pinch to zoom; in 3-D one finger turns and two move."
    : "Point at the ground for its height, slope and shots; click near an edge for its flip. Drag to move, wheel to zoom; in 3-D drag turns, right button moves. Keys, once the ground is clicked: arrows move, + and − zoom, Q and E turn, 0 shows the whole site, P plan, 3 three dimensions.";

  // Layers are switched one by one.
  for (const [name, layer] of Object.entries(layers)) {
    if (name === "marks" && !facts.findings.length) continue;
    const label = document.createElement("label"), input = document.createElement("input");
    Object.assign(input, { type: "checkbox", checked: layer.shown, name });
    const apply = () => {
      layer.shown = input.checked;
      if (layer.object) layer.object.visible = layer.shown;
      draw();
    };
    input.addEventListener("change", apply);
    label.append(input, layer.label);
    by("switches").append(label);
    apply();
  }

  // A click is a press that does not move.
  let pressed = null;
  const canvas = renderer.domElement;
  canvas.addEventListener("pointerdown", (event) => { pressed = [event.clientX, event.clientY]; });
  canvas.addEventListener("pointerup", (event) => {
    if (pressed && Math.hypot(event.clientX - pressed[0], event.clientY - pressed[1]) < 4 && event.button === 0) {
      const found = hit(event);
      showHere(found);
      tellEdge(found);
    }
    pressed = null;
  });
  canvas.addEventListener("pointermove", (event) => { if (!event.buttons) showHere(hit(event)); });
  by("plan").addEventListener("click", () => show(true));
  by("solid").addEventListener("click", () => show(false));
  by("fit").addEventListener("click", fit);
  by("shading").addEventListener("change", (event) => shade(event.target.value));
  by("stretch").addEventListener("input", (event) => {
    stretch = Number(event.target.value);
    by("stretched").textContent = stretch;
    show(isPlan);
  });
  by("copy").addEventListener("click", async () => {
    const text = by("snippet").textContent;
    try {
      await navigator.clipboard.writeText(text);
    } catch {
      getSelection().selectAllChildren(by("snippet"));
      document.execCommand("copy");
    }
    by("copy").textContent = "Copied";
    setTimeout(() => { by("copy").textContent = "Copy"; }, 1500);
  });
  addEventListener("resize", resize);
  by("stretch").value = stretch;
  by("stretched").textContent = stretch;
  shade("height");
  show(true);
  resize();
  by("waiting").hidden = true;
  // What tests and the curious may look at.
  globalThis.look = { frames, toScreen: (x, y, z) => onScreen([x - facts.origin[0], y - facts.origin[1], z - facts.origin[2]]) };
})();
