// Records page views of this site, after consent: ombakConsent(true) or (false), kept in this browser. Honours
// Global Privacy Control.
(() => {
  const me = document.currentScript;
  const home = new URL(me.src).origin;
  const store = localStorage;
  const here = new URL(location.href);
  const token = here.searchParams.get("ombak_v") || "";
  if (token) {
    here.searchParams.delete("ombak_v");
    history.replaceState(history.state, "", here);
  }
  function id() {
    let v = store.getItem("ombak_visitor");
    if (!v) {
      v = [...crypto.getRandomValues(new Uint8Array(12))].map((b) => b.toString(16).padStart(2, "0")).join("");
      store.setItem("ombak_visitor", v);
    }
    return v;
  }
  let sent = "";
  function view(k) {
    if (navigator.globalPrivacyControl || store.getItem("ombak_consent") !== "yes") return;
    const u = location.href.split("#")[0];
    if (u === sent) return;
    sent = u;
    navigator.sendBeacon(home + "/v", JSON.stringify({ v: id(), u, k: k || "" }));
  }
  window.ombakConsent = (yes) => {
    store.setItem("ombak_consent", yes ? "yes" : "no");
    if (yes) view(token);
    else store.removeItem("ombak_visitor");
  };
  // A way to one of our forms takes along which browser comes.
  document.addEventListener(
    "click",
    (e) => {
      const a = e.target.closest?.("a[href]");
      if (!a || a.origin !== home || navigator.globalPrivacyControl || store.getItem("ombak_consent") !== "yes")
        return;
      const to = new URL(a.href);
      to.searchParams.set("ombak_visitor", id());
      a.href = to;
    },
    true,
  );
  const push = history.pushState;
  history.pushState = function (...x) {
    push.apply(this, x);
    view();
  };
  addEventListener("popstate", () => view());
  view(token);
})();
