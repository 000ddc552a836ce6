// The course of the pipeline: a deal that is dragged, or moved by its arrow keys, tells the server its day and stage.
(() => {
  const svg = () => document.querySelector("svg.course[data-left]");
  const day = 86400000;
  const iso = (t) => new Date(t).toISOString().slice(0, 10);

  async function place(mark, stage, at) {
    const res = await fetch(`/pipeline/${mark.dataset.deal}/place`, {
      method: "POST",
      body: new URLSearchParams({ stage, day: at }),
      headers: { "X-CSRF-Token": document.querySelector("meta[name=csrf]").content, "HX-Request": "true" },
    }).catch(() => null);
    if (!res?.ok) window.ombakSay("The deal could not be moved and stays where it was.");
    kept = mark.dataset.deal;
    htmx.trigger("#course", "changed");
  }
  // The course comes anew; whoever moves a deal by keys stays on it.
  let kept = null;
  document.addEventListener("htmx:after:swap", () => {
    const mark = kept && document.querySelector(`.mark[data-deal="${kept}"]`);
    if (mark) mark.focus();
    kept = null;
  });

  const stages = () => [...document.querySelectorAll("[data-lane-stage]")].map((x) => x.dataset.laneStage);
  const where = (e) => {
    const s = svg(),
      p = new DOMPoint(e.clientX, e.clientY).matrixTransform(s.getScreenCTM().inverse());
    const of = (k) => Number(s.dataset[k]);
    const m = (p.x - of("left")) / of("month"),
      lane = Math.floor((p.y - of("top")) / of("lane"));
    if (m < 0 || m >= of("months") || lane < 0 || lane >= stages().length) return null;
    const [y, mo] = s.dataset.from.split("-").map(Number);
    const first = Date.UTC(y, mo - 1 + Math.floor(m), 1),
      next = Date.UTC(y, mo + Math.floor(m), 1);
    return { stage: stages()[lane], at: iso(first + Math.floor(((m % 1) * (next - first)) / day) * day), p };
  };

  let drag = null;
  document.addEventListener("pointerdown", (e) => {
    const mark = e.button === 0 && e.target.closest?.("svg.course .mark");
    if (mark) drag = { mark, circle: mark.querySelector("circle"), x: e.clientX, y: e.clientY, far: false };
  });
  document.addEventListener("dragstart", (e) => e.target.closest?.("svg.course .mark") && e.preventDefault());
  document.addEventListener("pointermove", (e) => {
    if (!drag) return;
    drag.far ||= Math.hypot(e.clientX - drag.x, e.clientY - drag.y) > 6;
    const w = drag.far && where(e);
    if (!w) return;
    drag.circle.setAttribute("cx", w.p.x);
    drag.circle.setAttribute("cy", w.p.y);
  });
  document.addEventListener("pointerup", (e) => {
    const was = drag;
    drag = null;
    if (!was?.far) return;
    document.addEventListener("click", (c) => c.preventDefault(), { once: true, capture: true });
    const w = where(e);
    if (w) place(was.mark, w.stage, w.at);
    else htmx.trigger("#course", "changed");
  });
  document.addEventListener("keydown", (e) => {
    const mark = document.activeElement?.closest?.("svg.course .mark");
    const by = { ArrowLeft: [-7, 0], ArrowRight: [7, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[e.key];
    if (!mark || !by || e.ctrlKey || e.metaKey || e.altKey) return;
    e.preventDefault();
    const from = mark.dataset.day ? Date.parse(mark.dataset.day) : Date.now();
    const stage = stages()[stages().indexOf(mark.dataset.stage) + by[1]];
    if (stage) place(mark, stage, iso(from + by[0] * day));
  });
})();
