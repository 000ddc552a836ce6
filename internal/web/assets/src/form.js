// A form as visitors meet it: tells that somebody began, and within another site how high it is.
(() => {
  const form = document.querySelector("[data-form]");
  const began = form?.dataset.started;
  form?.addEventListener(
    "input",
    () => {
      const view = form.elements.view.value;
      if (began && view) navigator.sendBeacon(began, new URLSearchParams({ view }));
    },
    { once: true },
  );
  form?.addEventListener("submit", (e) => {
    if (form.dataset.sent) e.preventDefault(); // pressed twice
    form.dataset.sent = "1";
  });
  addEventListener("pageshow", () => form && delete form.dataset.sent); // come back to, it can be sent again
  form?.querySelector("[aria-invalid=true]")?.focus();
  const inside = document.querySelector("[data-embedded]");
  if (!inside || parent === window) return;
  const tell = () =>
    parent.postMessage(
      { ombakForm: 1, height: Math.ceil(inside.getBoundingClientRect().height) + 4, go: inside.dataset.go || "" },
      "*",
    );
  new ResizeObserver(tell).observe(inside);
  tell();
})();
