// Asks once whether visits may be noted, and tells Ombak's snippet.
addEventListener("DOMContentLoaded", () => {
  const ask = document.querySelector(".ask");
  if (navigator.globalPrivacyControl) return;
  ask.hidden = localStorage.getItem("ombak_consent") !== null;
  const answer = (yes) => () => {
    window.ombakConsent(yes);
    ask.hidden = true;
  };
  ask.querySelector("[data-yes]").onclick = answer(true);
  ask.querySelector("[data-no]").onclick = answer(false);
});
