// Shows forms of Ombak where this site has <div data-ombak-form="name"></div>.
(() => {
  const home = new URL(document.currentScript.src).origin;
  for (const at of document.querySelectorAll("[data-ombak-form]")) {
    const to = new URL(home + "/p/" + encodeURIComponent(at.dataset.ombakForm) + "/form");
    for (const [k, v] of new URLSearchParams(location.search))
      if (k !== "ombak_v" && k !== "on") to.searchParams.set(k, v);
    to.searchParams.set("on", location.origin);
    // Which browser it is, where it agreed to be known (see v.js).
    if (!navigator.globalPrivacyControl && localStorage.getItem("ombak_consent") === "yes")
      to.searchParams.set("ombak_visitor", localStorage.getItem("ombak_visitor") || "");
    const frame = document.createElement("iframe");
    frame.src = to;
    frame.title = at.dataset.title || "Form";
    frame.style.cssText = "width:100%;border:0;height:420px";
    at.append(frame);
    addEventListener("message", (e) => {
      if (e.source !== frame.contentWindow || e.origin !== home || e.data?.ombakForm !== 1) return;
      frame.style.height = Math.min(Math.max(e.data.height | 0, 80), 6000) + "px";
      if (/^https?:|^\//.test(e.data.go)) location.href = new URL(e.data.go, home);
    });
  }
})();
