// Times to pick are shown by the visitor's own clock: their browser knows it, the first time we do not.
(() => {
  const form = document.querySelector("[data-zone]");
  const here = new URL(location);
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const list = form?.elements.zone;
  if (!list || here.searchParams.has("zone") || list.value === zone) return;
  if (![...list.options].some((o) => o.value === zone)) return;
  here.searchParams.set("zone", zone);
  location.replace(here);
})();
