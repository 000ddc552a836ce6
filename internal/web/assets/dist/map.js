// The sequence map: moving from step to step with the arrow keys, and zooming. It draws nothing.
(() => {
  const chart = () => document.querySelector('#map');
  function zoom(how) {
    const svg = chart();
    if (!svg) return;
    const box = svg.viewBox.baseVal;
    const frame = svg.closest('.map-frame');
    const now = svg.getBoundingClientRect().width / box.width;
    const fit = (frame.clientWidth - 4) / box.width;
    const next = how === 'fit' ? Math.max(0.62, Math.min(1, fit)) : how === 'width' ? fit : Math.max(0.3, Math.min(2.5, now * (how === 'in' ? 1.2 : 1 / 1.2)));
    svg.setAttribute('width', Math.round(box.width * next));
    svg.setAttribute('height', Math.round(box.height * next));
    try { sessionStorage.setItem('map-zoom', how === 'fit' || how === 'width' ? how : String(next)); } catch { /* a browser without storage forgets the zoom */ }
  }
  function keep() {
    let kept = null;
    try { kept = sessionStorage.getItem('map-zoom'); } catch { /* as above */ }
    if (kept === 'fit' || kept === 'width' || kept === null) return zoom(kept || 'fit');
    const svg = chart();
    svg.setAttribute('width', Math.round(svg.viewBox.baseVal.width * kept));
    svg.setAttribute('height', Math.round(svg.viewBox.baseVal.height * kept));
  }
  document.addEventListener('click', (e) => {
    const b = e.target.closest('[data-zoom]');
    if (b) zoom(b.dataset.zoom);
  });
  document.addEventListener('keydown', (e) => {
    const b = document.activeElement?.closest?.('[data-buoy]');
    if (!b || !e.key.startsWith('Arrow')) return;
    e.preventDefault();
    const at = (el) => ({ x: +el.dataset.x, y: +el.dataset.y });
    const here = at(b);
    const [dx, dy] = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[e.key];
    let best = null, far = Infinity;
    for (const o of document.querySelectorAll('[data-buoy]')) {
      const p = at(o), along = (p.x - here.x) * dx + (p.y - here.y) * dy;
      if (o === b || along <= 1) continue;
      const d = along + 2 * Math.abs((p.x - here.x) * dy + (p.y - here.y) * dx);
      if (d < far) { far = d; best = o; }
    }
    best?.focus();
  });
  // Whoever came here by keys goes on from the step they chose.
  document.addEventListener('htmx:after:swap', () => {
    if (!chart()) return;
    keep();
    if (document.activeElement === document.body) document.querySelector('[data-buoy][aria-current]')?.focus({ preventScroll: true });
  });
  if (chart()) keep();
  addEventListener('resize', () => chart() && keep());
})();
