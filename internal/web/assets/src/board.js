// The pipeline board: dragging a deal, by mouse or by keys, tells the server where it is now.
(() => {
  async function moved(card) {
    const column = card.closest("[data-stage]");
    const after = card.nextElementSibling?.dataset;
    const next = after?.deal || after?.dealNext || "0"; // what follows may not be shown
    const body = new URLSearchParams({ stage: column.dataset.stage, before: next });
    const res = await fetch(`/pipeline/${card.dataset.deal}/move`, {
      method: "POST",
      body,
      headers: { "X-CSRF-Token": document.querySelector("meta[name=csrf]").content, "HX-Request": "true" },
    }).catch(() => null);
    if (!res?.ok) {
      window.ombakSay("The deal could not be moved and stays where it was.");
      setTimeout(() => location.reload(), 1500);
      return;
    }
    kept = card.dataset.deal;
    htmx.trigger("#board", "changed");
  }
  // The board comes anew; whoever moves a deal by keys stays on it.
  let kept = null;
  document.addEventListener("htmx:before:swap", () => {
    kept = document.activeElement?.closest?.("[data-deal]")?.dataset.deal || kept;
  });
  document.addEventListener("htmx:after:swap", () => {
    const card = kept && document.querySelector(`[data-deal="${kept}"]`);
    if (card && !document.activeElement?.matches?.("input")) card.focus();
    kept = null;
  });
  function ready() {
    for (const column of document.querySelectorAll("[data-stage]")) {
      if (column.dataset.ready || column.dataset.fixed) continue;
      column.dataset.ready = "1";
      Sortable.create(column, {
        group: "deals",
        draggable: "[data-deal]",
        animation: 120,
        onEnd: (e) => moved(e.item),
      });
    }
  }
  document.addEventListener("keydown", (e) => {
    const card = document.activeElement?.closest?.("[data-deal]");
    if (!card || (e.key !== "[" && e.key !== "]") || e.target.matches("input")) return;
    const columns = [...document.querySelectorAll("[data-stage]")];
    const to = columns[columns.indexOf(card.closest("[data-stage]")) + (e.key === "]" ? 1 : -1)];
    if (!to || to.dataset.fixed) return;
    e.preventDefault();
    to.prepend(card);
    card.focus();
    moved(card);
  });
  document.addEventListener("htmx:after:swap", ready);
  ready();
})();
