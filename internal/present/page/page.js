// Ticks outlast a closed window, where the browser allows it.
for (const box of document.querySelectorAll("input[type=checkbox]")) {
  const key = document.title + " " + box.id;
  try { box.checked = localStorage.getItem(key) === "1"; } catch (e) {}
  box.addEventListener("change", () => { try { localStorage.setItem(key, box.checked ? "1" : "0"); } catch (e) {} });
}
