// The writer of messages: what is typed is kept by itself, sections are dragged, fields are put where the cursor was.
(() => {
  const writer = document.getElementById("writer");
  if (!writer) return;
  const $ = (s) => writer.querySelector(s);
  const form = () => document.getElementById("write");
  const CSRF = () => document.querySelector("meta[name=csrf]").content;
  let timer = 0;
  let last = null; // where the cursor was: an input, or the rich text

  // Sends all that was typed; the answer is not shown, so that nobody is disturbed while typing.
  async function keep() {
    clearTimeout(timer);
    timer = 0;
    const f = form();
    if (!f) return;
    const body = new URLSearchParams(new FormData(f));
    body.set("quiet", "1"); // nothing is drawn anew
    const res = await fetch(f.action, {
      method: "POST",
      body,
      headers: { "X-CSRF-Token": CSRF(), "HX-Request": "true" },
    }).catch(() => null);
    if (res?.status === 409) {
      // changed in another place: both sides are shown
      writer.innerHTML = new DOMParser().parseFromString(await res.text(), "text/html").body.innerHTML;
      writer.querySelector("[data-conflict] button")?.focus();
      return;
    }
    if (!res?.ok) {
      const wrong =
        res &&
        new DOMParser()
          .parseFromString(await res.text(), "text/html")
          .querySelector(".note.bad")
          ?.textContent.trim();
      window.ombakSay(wrong || "What you typed could not be kept. It is still on this page.");
      return;
    }
    const state = res.headers.get("X-State");
    if (state && f.isConnected) f.elements.base.value = state;
    // What has changed can be undone, and kept or published.
    for (const b of writer.querySelectorAll("[data-key=s], [data-key=u]")) b.disabled = false;
    const proof = document.getElementById("proof");
    if (proof) htmx.trigger(proof, "reproof");
  }
  function soon(ms) {
    clearTimeout(timer);
    timer = setTimeout(keep, ms);
  }
  // Where the cursor is, so that drawing anew does not take it away.
  let here = null;
  function remember() {
    const el = document.activeElement;
    here =
      el?.name && el.name !== "do" && el.closest("#writer")
        ? { name: el.name, at: [...writer.querySelectorAll(`[name="${el.name}"]`)].indexOf(el) }
        : null;
  }
  function press(value) {
    remember();
    const b = document.createElement("button");
    b.name = "do";
    b.value = value;
    b.hidden = true;
    form().append(b);
    clearTimeout(timer);
    form().requestSubmit(b);
    b.remove();
  }

  document.addEventListener("input", (e) => {
    if (e.target.matches("#writer input[data-save], #writer textarea[data-save]") && e.target.type !== "checkbox")
      soon(900);
  });
  document.addEventListener("trix-change", (e) => {
    if (e.target.closest("#writer") && e.target.dataset.ready) soon(900);
  });
  document.addEventListener("trix-initialize", (e) => {
    setTimeout(() => {
      e.target.dataset.ready = "1";
    }, 0);
  });
  document.addEventListener("change", (e) => {
    const el = e.target;
    if (!el.closest("#writer")) return;
    if (el.dataset.do === "group") return press("group " + el.value);
    if (el.dataset.do === "use") return press("use");
    if (
      el.matches("select[data-save], input[type=checkbox][data-save]") ||
      (el.form?.id === "write" && el.closest(".act"))
    )
      return press("");
    if (el.matches("[data-field]")) $("[data-fallback]").value = el.selectedOptions[0].dataset.usual || "";
  });
  // A chosen file goes on the shelf, and from there into the section or beside the message.
  document.addEventListener("change", async (e) => {
    const el = e.target;
    if (!el.dataset.upload || !el.files.length) return;
    const body = new FormData();
    body.append("file", el.files[0]);
    el.disabled = true;
    window.ombakSay("On its way: " + el.files[0].name);
    const res = await fetch("/content/upload" + (el.dataset.upload === "picture" ? "?picture=1" : ""), {
      method: "POST",
      body,
      headers: { "X-CSRF-Token": CSRF() },
    }).catch(() => null);
    const said = await res?.json().catch(() => null);
    el.disabled = false;
    if (!res?.ok) {
      el.value = "";
      return window.ombakSay(said?.wrong || "The file did not arrive. Try again.");
    }
    if (el.dataset.upload === "attach") return press("attach " + said.id);
    const at = el.closest("[data-part]").querySelector("[name=picture]");
    at.value = said.address;
    press("");
  });
  document.addEventListener("submit", () => clearTimeout(timer), true);
  addEventListener("pagehide", () => {
    if (timer && form()) navigator.sendBeacon(form().action, new URLSearchParams(new FormData(form())));
  });
  document.addEventListener("focusin", (e) => {
    if (e.target.matches("#write input:not([type=checkbox]), #write textarea, #write trix-editor")) last = e.target;
  });

  function put(text, html) {
    let at = last?.isConnected ? last : $("#write trix-editor") || $("#subject");
    if (!at) return;
    if (at.matches("trix-editor")) html ? at.editor.insertHTML(html) : at.editor.insertString(text);
    else {
      at.setRangeText(text, at.selectionStart, at.selectionEnd, "end");
      soon(300);
    }
    at.focus();
  }
  document.addEventListener("click", (e) => {
    if (e.target.closest("[data-put-field]")) {
      const field = $("[data-field]").value;
      const fallback = $("[data-fallback]").value.trim().replaceAll('"', "”");
      put(fallback ? `{{ ${field} | default: "${fallback}" }}` : `{{ ${field} }}`);
    }
    if (e.target.closest("[data-put-ask]")) press("ask " + $("[data-ask]").value);
    if (e.target.closest("[data-put-link]")) {
      const page = $("[data-page]");
      const a = document.createElement("a");
      a.href = page.value;
      a.textContent = page.selectedOptions[0].textContent;
      a.setAttribute("href", page.value);
      put(page.value, a.outerHTML);
    }
  });
  document.addEventListener("keydown", (e) => {
    const part = e.target.closest?.("[data-part]");
    if (!part || !e.altKey || (e.key !== "ArrowUp" && e.key !== "ArrowDown")) return;
    e.preventDefault();
    press(`move ${part.dataset.part} ${e.key === "ArrowUp" ? -1 : 1}`);
  });

  function ready() {
    const list = document.getElementById("parts");
    if (!list || list.dataset.ready || !$(".grip")) return;
    list.dataset.ready = "1";
    Sortable.create(list, {
      draggable: "[data-part]",
      handle: ".grip",
      animation: 120,
      onEnd: () => press("order " + [...list.querySelectorAll("[data-part]")].map((p) => p.dataset.part).join(",")),
    });
  }
  document.addEventListener("htmx:after:swap", () => {
    ready();
    const was = here && writer.querySelectorAll(`[name="${here.name}"]`)[here.at];
    here = null;
    (
      was || writer.querySelector(".part.open input:not([type=hidden]):not([type=file]), .part.open textarea")
    )?.focus();
  });
  const usual = $("[data-field]");
  if (usual) $("[data-fallback]").value = usual.selectedOptions[0].dataset.usual || "";
  ready();
})();
