/** Parts of the page that are loaded when they are opened: where one has gone, since the server has a newer page, all is loaded anew. */

const STORED = "beryl.reloaded";
/** A part that is missing again so soon after is missing for good. */
const SOON = 30_000;

/** Loads the page anew where a part of it is missing. Twice in a row it leaves that to the person. */
export function reloadWhereAPartIsMissing(): void {
  window.addEventListener("vite:preloadError", (event) => {
    const last = Number(sessionStorage.getItem(STORED) ?? 0);
    if (Date.now() - last < SOON) return;
    sessionStorage.setItem(STORED, String(Date.now()));
    event.preventDefault();
    window.location.reload();
  });
}
