// The sequence map: moving from step to step with the arrow keys, zooming, and an overview to move by where the map is
// larger than its frame. The map itself is drawn by the server.
(() => {
  const chart = () => document.querySelector("#map");
  function zoom(how) {
    const svg = chart();
    if (!svg) return;
    const box = svg.viewBox.baseVal;
    const frame = svg.closest(".map-frame");
    const now = svg.getBoundingClientRect().width / box.width;
    const fit = (frame.clientWidth - 4) / box.width;
    // At fit the smallest words, drawn at 11 px, are never smaller: a larger plan scrolls instead.
    const next =
      how === "fit"
        ? Math.max(1, Math.min(1.25, fit))
        : how === "width"
          ? fit
          : Math.max(0.3, Math.min(2.5, now * (how === "in" ? 1.2 : 1 / 1.2)));
    svg.setAttribute("width", Math.round(box.width * next));
    svg.setAttribute("height", Math.round(box.height * next));
    overview();
    try {
      sessionStorage.setItem("map-zoom", how === "fit" || how === "width" ? how : String(next));
    } catch {
      /* a browser without storage forgets the zoom */
    }
  }
  function keep() {
    let kept = null;
    try {
      kept = sessionStorage.getItem("map-zoom");
    } catch {
      /* as above */
    }
    if (kept === "fit" || kept === "width" || kept === null) return zoom(kept || "fit");
    const svg = chart();
    svg.setAttribute("width", Math.round(svg.viewBox.baseVal.width * kept));
    svg.setAttribute("height", Math.round(svg.viewBox.baseVal.height * kept));
    overview();
  }
  // The overview is the water alone, a dot for each step, and the part that is seen. It says nothing that the map does
  // not, and keys move along the map's own steps, so it is for the pointer only.
  function overview() {
    const svg = chart(),
      frame = svg?.closest(".map-frame"),
      at = document.querySelector(".map-overview");
    if (!at) return;
    const box = svg.viewBox.baseVal,
      wide = svg.getBoundingClientRect().width,
      scale = wide / box.width;
    const over = wide > frame.clientWidth + 8 || svg.getBoundingClientRect().height > frame.clientHeight + 8;
    at.hidden = !over;
    if (!over) return at.replaceChildren();
    const make = (name, of) => {
      const el = document.createElementNS("http://www.w3.org/2000/svg", name);
      for (const k in of) el.setAttribute(k, of[k]);
      return el;
    };
    const tiny = Math.min(320 / box.width, 84 / box.height);
    const small = make("svg", {
      viewBox: `0 0 ${box.width} ${box.height}`,
      width: Math.round(box.width * tiny),
      height: Math.round(box.height * tiny),
    });
    small.append(make("use", { href: "#map-water" }));
    for (const b of document.querySelectorAll("[data-buoy]")) {
      const at = middle(b);
      small.append(
        make("circle", {
          cx: at.x,
          cy: at.y,
          r: 11,
          class: b.hasAttribute("aria-current") ? "chosen" : "",
        }),
      );
    }
    const seen = make("rect", { class: "seen", rx: 8 });
    small.append(seen);
    const show = () => {
      const h = Math.min(box.height, frame.clientHeight / scale);
      for (const [k, v] of Object.entries({
        x: frame.scrollLeft / scale,
        y: frame.scrollTop / scale,
        width: Math.min(box.width, frame.clientWidth / scale),
        height: h,
      }))
        seen.setAttribute(k, v);
    };
    const go = (e) => {
      const r = small.getBoundingClientRect();
      frame.scrollTo(
        ((e.clientX - r.left) / r.width) * wide - frame.clientWidth / 2,
        ((e.clientY - r.top) / r.height) * box.height * scale - frame.clientHeight / 2,
      );
    };
    small.addEventListener("pointerdown", (e) => {
      small.setPointerCapture(e.pointerId);
      go(e);
    });
    small.addEventListener("pointermove", (e) => e.buttons && go(e));
    at.replaceChildren(small);
    frame.onscroll = () => {
      if (!frame.isConnected) return;
      places.set(location.pathname, [frame.scrollLeft, frame.scrollTop]);
      show();
    };
    frame.scrollTo(...(places.get(location.pathname) || [0, 0]));
    const chosen = document.querySelector("[data-buoy][aria-current]");
    if (chosen) reach(chosen, frame);
    show();
  }
  // middle is where a buoy is on the map.
  function middle(buoy) {
    const at = buoy.querySelector("g").transform.baseVal[0].matrix;
    return { x: at.e, y: at.f };
  }
  // Where each map was left, so that choosing a step does not lose the place.
  const places = new Map();
  // reach brings a step into the frame, and nothing else of the page.
  function reach(buoy, frame) {
    const b = buoy.getBoundingClientRect(),
      f = frame.getBoundingClientRect();
    if (b.left < f.left + 20) frame.scrollLeft -= f.left + 20 - b.left;
    if (b.right > f.right - 20) frame.scrollLeft += b.right - f.right + 20;
  }
  document.addEventListener("click", (e) => {
    const b = e.target.closest("[data-zoom]");
    if (b) zoom(b.dataset.zoom);
  });
  document.addEventListener("keydown", (e) => {
    const b = document.activeElement?.closest?.("[data-buoy]");
    if (!b || !e.key.startsWith("Arrow")) return;
    e.preventDefault();
    const here = middle(b);
    const [dx, dy] = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[e.key];
    let best = null,
      far = Infinity;
    for (const o of document.querySelectorAll("[data-buoy]")) {
      const p = middle(o),
        along = (p.x - here.x) * dx + (p.y - here.y) * dy;
      if (o === b || along <= 1) continue;
      const d = along + 2 * Math.abs((p.x - here.x) * dy + (p.y - here.y) * dx);
      if (d < far) {
        far = d;
        best = o;
      }
    }
    best?.focus();
  });
  // Whoever came here by keys goes on from the step they chose.
  document.addEventListener("htmx:after:swap", () => {
    if (!chart()) return;
    keep();
    if (document.activeElement === document.body)
      document.querySelector("[data-buoy][aria-current]")?.focus({ preventScroll: true });
  });
  // Escape leaves the form beside the map for the step it is about.
  document.addEventListener("keydown", (e) => {
    if (e.key !== "Escape" || !chart() || !e.target.closest?.("#panel")) return;
    (document.querySelector("[data-buoy][aria-current]") || document.querySelector("[data-buoy]"))?.focus();
  });
  // A step is dragged to the plus of another stream; with Shift held, with all that it leads to. By keys it is cut and
  // put in.
  let dragged = null;
  const spot = (e) => document.elementFromPoint(e.clientX, e.clientY)?.closest("a.plus[data-from]");
  document.addEventListener("pointerdown", (e) => {
    const b = e.target.closest?.("[data-buoy][data-step]");
    if (b && e.button === 0 && document.querySelector("[data-move]"))
      dragged = { buoy: b, x: e.clientX, y: e.clientY, on: false };
  });
  document.addEventListener("dragstart", (e) => e.target.closest?.("[data-buoy]") && e.preventDefault());
  document.addEventListener("pointermove", (e) => {
    if (!dragged) return;
    const dx = e.clientX - dragged.x,
      dy = e.clientY - dragged.y;
    if (!dragged.on && Math.hypot(dx, dy) < 8) return;
    dragged.on = true;
    const svg = chart(),
      scale = svg.getBoundingClientRect().width / svg.viewBox.baseVal.width;
    dragged.buoy.setAttribute("transform", `translate(${dx / scale} ${dy / scale})`);
    dragged.buoy.classList.add("dragged");
    for (const p of document.querySelectorAll("a.plus")) p.classList.toggle("aimed", p === spot(e));
  });
  document.addEventListener("pointerup", (e) => {
    const was = dragged;
    dragged = null;
    if (!was?.on) return;
    was.buoy.removeAttribute("transform");
    was.buoy.classList.remove("dragged");
    const stop = (x) => (x.preventDefault(), x.stopImmediatePropagation());
    addEventListener("click", stop, { capture: true, once: true }); // the press that ends a drag opens nothing
    setTimeout(() => removeEventListener("click", stop, true), 50);
    const to = spot(e);
    for (const p of document.querySelectorAll("a.plus")) p.classList.remove("aimed");
    if (!to) return;
    const form = document.querySelector("[data-move]");
    form.elements.from.value = to.dataset.from;
    form.elements.exit.value = to.dataset.exit;
    form.elements.whole.value = e.shiftKey ? "on" : "";
    form.elements.step.value = was.buoy.dataset.step;
    form.requestSubmit();
  });
  // A choice in a step's form that decides what else it asks for has the form written again, with all that was typed.
  document.addEventListener("change", (e) => {
    const form = e.target.closest("[data-again]")?.closest("form");
    form?.querySelector("[data-press-again]")?.click();
  });
  // Which part of the settings is open is still so when the form is written again.
  document.addEventListener(
    "toggle",
    (e) => {
      const part = e.target.closest?.("details[data-part]");
      const kept = part?.closest("form")?.querySelector("[name=open]");
      if (kept && part.open) kept.value = part.dataset.part;
    },
    true,
  );
  if (chart()) keep();
  addEventListener("resize", () => chart() && keep());
})();
