// What every page does: keys, the finder, live changes, and small conveniences. Pages work without it.
(() => {
  const $ = (s, el = document) => el.querySelector(s);
  const all = (s, el = document) => [...el.querySelectorAll(s)];
  const typing = (e) => e.target.closest("input, textarea, select, trix-editor, [contenteditable]");

  // Each request of htmx carries the page's token.
  document.addEventListener("htmx:config:request", (e) => {
    e.detail.ctx.request.headers["X-CSRF-Token"] = $("meta[name=csrf]")?.content || "";
  });
  document.addEventListener("htmx:error", () => say("That did not reach Ombak. Nothing was changed; try again."));
  document.addEventListener("htmx:response:error", (e) => {
    const status = e.detail.ctx.response?.raw?.status;
    if (status === 401) location.reload();
    else if (status !== 422 && status !== 409)
      say("That did not work. Nothing was changed; reload the page and try again.");
  });

  // Words that are ready to be written elsewhere go to the clipboard.
  document.addEventListener("click", async (e) => {
    const words = e.target.closest("[data-copy]")?.parentElement.querySelector("[data-copied]");
    if (!words) return;
    try {
      await navigator.clipboard.writeText(words.textContent);
      say("Copied.");
    } catch {
      getSelection().selectAllChildren(words);
      say("Marked: copy it with your keys.");
    }
  });
  document.addEventListener("click", (e) => e.target.closest("[data-print]") && print());
  function say(text) {
    const el = $("#said");
    if (!el) return;
    el.textContent = text;
    el.hidden = false;
    clearTimeout(say.timer);
    say.timer = setTimeout(() => {
      el.hidden = true;
    }, 8000);
  }
  window.ombakSay = say;
  // What comes behind a page is told to whoever does not see it come.
  document.addEventListener("htmx:after:swap", (e) => {
    const words = all("[data-arrived]").map((el) => {
      const said = el.dataset.arrived;
      el.removeAttribute("data-arrived");
      return said;
    });
    const live = e.detail.ctx?.sourceElement?.matches?.("[data-live]"); // nobody is told at each change
    if (words.length && !live) $("#arrived").textContent = words.join(" ");
  });

  let followed = null; // in a list with its detail beside it: what is ringed and not shown yet

  // Live changes: the server names what has changed, and whoever shows it asks again.
  const wanted = () => all("[data-live]");
  if (wanted().length && window.EventSource) {
    // Nobody loses what they type, or the menu they have open: neither when a change is told nor when its answer comes.
    const inUse = (el) => {
      const part = (el.dataset.liveIn && $(el.dataset.liveIn)) || el;
      return (
        (part.contains(document.activeElement) && typing({ target: document.activeElement })) ||
        part.querySelector("details[open]")
      );
    };
    document.addEventListener("htmx:before:swap", (e) => {
      const el = e.detail.ctx?.sourceElement;
      if (el?.matches?.("[data-live]") && (inUse(el) || followed !== null)) e.preventDefault();
    });
    // From the moment at which the page was begun: what changed while it came is told too.
    const source = new EventSource("/events?since=" + encodeURIComponent(document.body.dataset.seen || ""));
    const due = new Map();
    source.onmessage = (e) => {
      for (const el of wanted()) {
        const topics = el.dataset.live.split(" ");
        const told = (topic) => topic === e.data || (e.data === "about:*" && topic.startsWith("about:"));
        if (e.data !== "" && !topics.some(told)) continue;
        if (due.has(el)) continue;
        due.set(
          el,
          setTimeout(() => {
            due.delete(el);
            if (inUse(el)) return;
            if (el.isConnected) htmx.trigger(el, "changed");
          }, 400),
        );
      }
    };
    addEventListener("pagehide", () => source.close());
  }

  // The finder.
  const finder = $("#finder");
  function find() {
    finder.showModal();
    $("input", finder).select();
  }
  document.addEventListener("click", (e) => {
    if (e.target.closest("[data-find]")) find();
    if (e.target.closest("[data-keys]")) $("#keys").showModal();
    const close = e.target.closest("[data-close]");
    if (close) close.closest("dialog").close();
    if (e.target.matches("dialog")) e.target.close();
    const insert = e.target.closest("[data-insert]");
    if (insert) {
      const ed = $("trix-editor");
      if (insert.dataset.into === "subject") {
        const input = $("input[name=subject]");
        input.setRangeText(insert.dataset.insert, input.selectionStart, input.selectionEnd, "end");
        input.focus();
      } else if (insert.dataset.href)
        ed.editor.insertHTML(`<a href="${insert.dataset.href}">${insert.dataset.insert}</a>`);
      else ed.editor.insertString(insert.dataset.insert);
    }
  });
  document.addEventListener("change", (e) => {
    if (e.target.closest("[data-submit]")) e.target.form.requestSubmit();
    if (e.target.matches("[data-all]"))
      all("input[name=id]", e.target.form).forEach((x) => {
        x.checked = e.target.checked;
      });
    const ticked = e.target.form && $("[data-ticked]", e.target.form);
    if (ticked) {
      const n = all("input[name=id]:checked", e.target.form).length;
      ticked.textContent = $("input[name=everybody]", e.target.form)?.checked ? "All" : n;
    }
  });
  // Menus within a page close when something else is pressed, or with Escape.
  document.addEventListener("click", (e) =>
    all("details.small-menu[open]").forEach((d) => {
      if (!d.contains(e.target)) d.open = false;
    }),
  );
  document.addEventListener("keydown", (e) => {
    if (e.key === "Escape")
      all("details.small-menu[open], details.edit[open]").forEach((d) => {
        d.open = false;
        $("summary", d).focus();
      });
  });
  document.addEventListener(
    "toggle",
    (e) => {
      if (e.target.matches?.("details.edit[open], details.small-menu[open]"))
        $("input:not([type=hidden]):not([type=checkbox]), select", e.target)?.focus();
    },
    true,
  );

  const named = (form, name) => [...(form?.elements || [])].filter((x) => x.name === name);
  // A field that is taken away while somebody types in it says once more that it has changed. Nothing may follow from
  // that: what was typed is carried over, and the form it stood in is gone.
  let goes = false;
  document.addEventListener("htmx:before:swap", () => {
    goes = true;
    queueMicrotask(() => {
      goes = false;
    });
  });
  document.addEventListener("change", (e) => goes && e.stopImmediatePropagation(), true);
  // A form that is written again knows nothing of what was typed since it was asked for: that is carried over.
  const said = (x) => (x.matches("[type=checkbox], [type=radio]") ? x.checked : x.value);
  const kept = (form) => [...form.elements].filter((x) => x.name && !x.matches("button, [type=hidden], [type=file]"));
  const asked = new WeakMap();
  let since = null;
  let typed = false,
    meant = null,
    missed = null;
  // Once it is sent to be kept, what it was asked for before comes too late.
  const sent = new WeakSet();
  document.addEventListener("submit", (e) => sent.add(e.target));
  document.addEventListener("htmx:error", () => all("form").forEach((f) => sent.delete(f)));
  const again = (e) => e.detail.ctx?.sourceElement?.matches?.("[data-press-again]") && e.detail.ctx.sourceElement.form;
  document.addEventListener("htmx:config:request", (e) => {
    const form = again(e);
    if (form) asked.set(form, new Map(kept(form).map((x) => [x, said(x)])));
  });
  document.addEventListener("htmx:before:swap", (e) => {
    const form = again(e),
      was = form && asked.get(form);
    if (form && sent.has(form)) return e.preventDefault();
    // Whoever is choosing from a list just now would choose from another in the middle of a word. What they choose asks
    // once more.
    if (form && meant?.list.form === form) {
      missed = form;
      return e.preventDefault();
    }
    since = was && {
      form: form.getAttribute("id"),
      list: kept(form)
        .filter((x) => was.get(x) !== said(x))
        .map((x) => ({ name: x.name, nth: named(form, x.name).indexOf(x), says: said(x) })),
    };
  });
  let chosen = null;
  function carryOver() {
    for (const x of since?.list || []) {
      const el = named(document.getElementById(since.form), x.name)[x.nth];
      if (!el) continue;
      if (typeof x.says === "boolean") el.checked = x.says;
      else el.value = x.says;
      if (el.matches("select, [type=checkbox], [type=radio]") && el.closest("[data-again]")) chosen = el.form;
    }
    since = null;
  }
  // Where a form comes back changed, the one who types stays where they were: at the field with the same id, or else
  // the same name.
  let held = null;
  document.addEventListener("htmx:before:swap", () => {
    const el = document.activeElement,
      form = el?.form;
    held =
      form && (el.id || (form.getAttribute("id") && el.name))
        ? {
            el,
            id: el.id,
            form: form.getAttribute("id"),
            name: el.name,
            nth: named(form, el.name).indexOf(el),
            at: el.type === "search" || el.type === "text" ? [el.selectionStart, el.selectionEnd] : null,
            whole: el.type === "number" && el.value === el.defaultValue,
          }
        : null;
  });
  function giveBack() {
    const el =
      held &&
      (held.id ? document.getElementById(held.id) : named(document.getElementById(held.form), held.name)[held.nth]);
    if (el && el !== document.activeElement) {
      el.focus();
      if (held.at) el.setSelectionRange(...held.at);
      else if (held.whole) el.select();
    }
    held = null;
  }
  // All of that as soon as the new form stands there, before another key can be pressed: not only when it has settled.
  const landed = () => {
    landing.disconnect();
    carryOver();
    giveBack();
  };
  const landing = new MutationObserver(() => held?.el.isConnected || landed());
  document.addEventListener("htmx:before:swap", () => {
    if (held) landing.observe(document.body, { childList: true, subtree: true });
  });
  document.addEventListener("htmx:after:swap", landed);
  // Where something else was chosen meanwhile, the form that came belongs to what was chosen before: it is asked for
  // once more, before anything can be typed into it.
  document.addEventListener("htmx:after:swap", () => {
    const form = chosen;
    chosen = null;
    if (form) $("[data-press-again]", form)?.click();
  });
  // Each letter that is typed on a list chooses anew: what stands there when they stop, or go on, is what they mean.
  // However late the machine tells of it, a choice that no pointer made was typed.
  document.addEventListener("keydown", (e) => e.target.matches?.("select") && (typed = true), true);
  document.addEventListener("pointerdown", () => (typed = false), true);
  document.addEventListener(
    "change",
    (e) => {
      if (!e.isTrusted || !e.target.matches("select") || !typed) return;
      e.stopImmediatePropagation();
      clearTimeout(meant?.timer);
      meant = { list: e.target, timer: setTimeout(choose, 600) };
    },
    true,
  );
  document.addEventListener("focusout", (e) => meant?.list === e.target && choose(), true);
  function choose() {
    const { list, timer } = meant;
    clearTimeout(timer);
    meant = null;
    if (!list.isConnected) return;
    list.dispatchEvent(new Event("change", { bubbles: true }));
    if (missed === list.form && !list.closest("[data-again]")) $("[data-press-again]", list.form)?.click();
    missed = null;
  }
  document.addEventListener("trix-file-accept", (e) => e.preventDefault()); // pictures come with the shelf

  // Whoever leaves a form that is not kept is asked. The writers keep what is typed by themselves.
  const typedInto = (f) =>
    f.method === "post" &&
    !f.matches('#write, [action="/sign-in"]') &&
    [...f.elements].some((el) => {
      if (el.type === "hidden" || el.type === "file" || el.matches("[data-submit], button") || !el.offsetParent)
        return false;
      if (el.type === "checkbox" || el.type === "radio")
        return el.name !== "id" && el.checked !== el.defaultChecked;
      if (el.matches("select"))
        return (
          [...el.options].some((o) => o.selected !== o.defaultSelected) &&
          [...el.options].some((o) => o.defaultSelected)
        );
      return el.matches("input, textarea") && el.value !== el.defaultValue;
    });
  const unkept = (part) => all("form", part).some(typedInto);
  const question = "What you typed is not kept yet. Leave it?";
  let sending = false;
  document.addEventListener("submit", () => {
    sending = true;
    setTimeout(() => {
      sending = false;
    }, 4000);
  });
  addEventListener("beforeunload", (e) => {
    if (!sending && unkept(document)) e.preventDefault();
  });
  document.addEventListener(
    "click",
    (e) => {
      const a = e.target.closest("a[hx-get]");
      const part = a && $(a.getAttribute("hx-target") || "body");
      if (part && unkept(part) && !confirm(question)) {
        e.preventDefault();
        e.stopImmediatePropagation();
      }
    },
    true,
  );

  // Lists move with j and k (or the arrows), open with Enter; the rest of the keys stand in the page as data-key.
  function rows() {
    return all("[data-row]").filter((r) => r.offsetParent);
  }
  function step(by) {
    const list = rows();
    if (!list.length) return;
    let now = list.indexOf(document.activeElement.closest("[data-row]"));
    if (followed !== null) now = list.findIndex((r) => r.dataset.follow === followed);
    else if (now < 0)
      now = list.findIndex((r) => r.dataset.follow !== undefined && r.getAttribute("aria-current") === "true");
    const next = list[Math.max(0, Math.min(list.length - 1, now < 0 ? (by > 0 ? 0 : list.length - 1) : now + by))];
    next.focus();
    next.scrollIntoView({ block: "nearest" });
    follow(next);
  }

  // Where the detail stands beside the list, it follows the list, and the keys that act wait until what is ringed is
  // what is shown: a key never takes somebody else.
  let waiting = [];
  function follow(row) {
    if (row.dataset.follow === undefined || row.dataset.follow === $("[data-shown]")?.dataset.shown) {
      followed = null;
      return;
    }
    if (unkept($(row.getAttribute("hx-target"))) && !confirm(question)) return;
    followed = row.dataset.follow;
    waiting = [];
    if (!asking) ask(row);
  }
  // One question at a time, and always for the last that was ringed.
  let asking = false;
  function ask(row) {
    asking = true;
    const href = row.getAttribute("href");
    history.replaceState(history.state, "", href);
    htmx
      .ajax("GET", href, { target: row.getAttribute("hx-target"), swap: "innerHTML" })
      .catch(() => {
        followed = null;
      })
      .finally(() => {
        asking = false;
        followedOn();
      });
  }
  function followedOn() {
    if (followed === null) return;
    const row = all("[data-follow]").find((r) => r.dataset.follow === followed);
    row?.focus();
    if (row && $("[data-shown]")?.dataset.shown !== followed) return ask(row);
    const keys = row ? waiting : [];
    followed = null;
    waiting = [];
    keys.forEach(act);
  }
  // A list that changed by itself shows something else than what was looked at: acting keys rest for a moment.
  let last = $("[data-shown]")?.dataset.shown;
  let rest = 0;
  document.addEventListener("htmx:after:swap", () => {
    const now = $("[data-shown]")?.dataset.shown;
    const asked = followed !== null || document.activeElement?.dataset?.follow === now;
    if (last && now && now !== last && !asked) rest = performance.now() + 1000;
    last = now;
  });
  function act(key) {
    const shown = (x) => x.checkVisibility?.() ?? x.offsetParent; // a part of a drawing has no offsetParent
    const el = all("[data-key]").find((x) => x.dataset.key.split(" ").includes(key) && shown(x));
    if (!el) return false;
    if (el.matches("input:not([type=checkbox]), textarea, select")) {
      el.focus();
      el.select?.();
    }
    else if (el.click) el.click();
    else el.dispatchEvent(new MouseEvent("click", { bubbles: true, cancelable: true }));
    return true;
  }
  document.addEventListener("keydown", (e) => {
    if (e.ctrlKey || e.metaKey || e.altKey) return;
    if (finder?.open) {
      const list = all("[data-found]", finder);
      const now = list.indexOf(document.activeElement);
      if (e.key === "ArrowDown" && list.length) {
        e.preventDefault();
        list[Math.min(now + 1, list.length - 1)].focus();
      }
      if (e.key === "ArrowUp" && list.length) {
        e.preventDefault();
        now <= 0 ? $("input", finder).focus() : list[now - 1].focus();
      }
      if (e.key === "Enter" && now < 0 && list.length) {
        e.preventDefault();
        list[0].click();
      }
      return;
    }
    // A field that is about one of several buttons presses that one.
    if (e.key === "Enter" && e.target.matches?.("input[data-enter]")) {
      e.preventDefault();
      return act(e.target.dataset.enter);
    }
    // In the item at hand, Escape leaves a field: what is typed stays, and the keys act again.
    if (e.key === "Escape" && typing(e) && e.target.closest("[data-shown]")) return e.target.blur();
    if (typing(e) || $("dialog[open]")) return;
    if (e.key === "/") {
      e.preventDefault();
      return find();
    }
    if (e.key === "?") {
      e.preventDefault();
      return $("#keys").showModal();
    }
    if (e.key === "j") {
      e.preventDefault();
      return step(1);
    }
    if (e.key === "k") {
      e.preventDefault();
      return step(-1);
    }
    const ofRow = $(
      `[data-of-row="${CSS.escape(e.key)}"]`,
      document.activeElement.closest("[data-row]") || document.createElement("i"),
    );
    if (ofRow) {
      e.preventDefault();
      return ofRow.click();
    }
    const tick =
      e.key === "x" &&
      $("input[name=id]", document.activeElement.closest("[data-row]") || document.createElement("i"));
    if (tick) {
      e.preventDefault();
      return tick.click();
    }
    if (followed !== null) {
      waiting.push(e.key);
      return;
    }
    if (performance.now() < rest) return say("The list has changed. Look again before you press a key.");
    if (act(e.key)) e.preventDefault();
  });
  // A line of a list is dragged into a folder.
  let dragged = null;
  const into = (e) => dragged && e.target.closest?.("[data-into]");
  document.addEventListener("dragstart", (e) => {
    dragged = e.target.closest?.("[data-thing]")?.dataset.thing || null;
    if (dragged) e.dataTransfer.effectAllowed = "move";
  });
  document.addEventListener("dragend", () => {
    dragged = null;
    all(".aimed[data-into]").forEach((x) => x.classList.remove("aimed"));
  });
  document.addEventListener("dragover", (e) => {
    all(".aimed[data-into]").forEach((x) => x !== into(e) && x.classList.remove("aimed"));
    if (!into(e)) return;
    e.preventDefault();
    into(e).classList.add("aimed");
  });
  document.addEventListener("drop", (e) => {
    const form = into(e) && $("#into-folder");
    if (!form) return;
    e.preventDefault();
    form.elements.id.value = dragged;
    form.elements.into.value = into(e).dataset.into;
    form.requestSubmit();
  });
  // Browsers press a form's first button on Enter. Where that is one of several things to do, such as an undo or the
  // removal of a line, Enter keeps what was typed instead, or presses the button of the menu it was typed in.
  document.addEventListener("keydown", (e) => {
    const input = e.target;
    if (
      e.key !== "Enter" ||
      e.isComposing ||
      !input.matches?.("input:not([type=checkbox]):not([type=radio]):not([type=submit])")
    )
      return;
    const first = input.form && [...input.form.elements].find((x) => x.type === "submit");
    if (!first || first.name !== "do" || first.matches(".main")) return;
    e.preventDefault();
    const own = $("button:not([type=button])", input.closest(".drop") || document.createElement("i"));
    if (own) own.click();
    else input.dispatchEvent(new Event("change", { bubbles: true }));
  });
  document.addEventListener("keydown", (e) => {
    if (e.key === "Enter" && e.target.matches("[data-row]") && !e.target.matches("a")) $("a", e.target)?.click();
  });
})();
