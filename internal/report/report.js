(function () {
  "use strict";
  var data = JSON.parse(document.getElementById("data").textContent), all = data.findings;
  var kinds = ["holds", "weak", "conflicting", "missing", "waived"], severities = ["minor", "serious", "grave"];
  var form = document.querySelector(".filter"), out = form.querySelector("output");
  var fields = ["q", "place", "verdict", "severity", "baseline"];
  document.documentElement.classList.add("js");
  var matters = Array.prototype.slice.call(document.querySelectorAll(".matter"));
  var cohorts = Array.prototype.slice.call(document.querySelectorAll(".cohort"));
  var words = matters.map(function (m) { return (m.querySelector("h3").textContent + " " + m.querySelector(".m").textContent + " " + m.querySelector(".out").textContent).toLowerCase(); });
  var places = data.places.map(function (p) { return p.toLowerCase(); });
  var cohortWords = cohorts.map(function (c) { return c.querySelector("summary").textContent.toLowerCase(); });
  function apply() {
    var want = {}, any = false;
    fields.forEach(function (n) { want[n] = form.elements[n].value.trim(); any = any || want[n] !== ""; });
    var q = want.q.toLowerCase(), at = cohorts.findIndex(function (c) { return c.id === want.place; });
    var kind = kinds.indexOf(want.verdict), severity = severities.indexOf(want.severity), baseline = data.baselines.indexOf(want.baseline);
    var inMatter = {}, inCohort = {}, shown = 0;
    for (var i = 0; i < all.length; i++) {
      var f = all[i];
      if (want.place && f[1] !== at || want.verdict && f[3] !== kind || want.severity && f[4] !== severity ||
          want.baseline && f[8].indexOf(baseline) < 0 || q && places[f[2]].indexOf(q) < 0 && words[f[0]].indexOf(q) < 0) continue;
      shown++;
      inMatter[f[0]] = (inMatter[f[0]] || 0) + 1;
      inCohort[f[1]] = true;
    }
    matters.forEach(function (m, i) { m.hidden = !inMatter[i]; });
    cohorts.forEach(function (c, i) { c.hidden = any && !inCohort[i] && !(want.place && i === at) && !(q && cohortWords[i].indexOf(q) >= 0); });
    out.textContent = shown + " of " + all.length + " findings, " + Object.keys(inMatter).length + " of " + matters.length + " matters";
    var query = new URLSearchParams();
    fields.forEach(function (n) { if (want[n]) query.set(n, want[n]); });
    try { history.replaceState(null, "", (query.toString() ? "?" + query : location.pathname) + location.hash); } catch (e) { /* some browsers keep the address of files */ }
  }
  function fromAddress() {
    var query = new URLSearchParams(location.search);
    fields.forEach(function (n) { form.elements[n].value = query.get(n) || ""; });
  }
  form.addEventListener("input", apply);
  form.addEventListener("reset", function () { setTimeout(apply, 0); });
  form.addEventListener("submit", function (e) { e.preventDefault(); });
  // A link to what the filter hides shows all again; one to a place opens it.
  function arrive() {
    var to = document.getElementById(decodeURIComponent(location.hash.slice(1)));
    if (!to) return;
    if (to.closest("[hidden]")) { form.reset(); setTimeout(function () { to.scrollIntoView(); }, 10); }
    if (to.tagName === "DETAILS") to.open = true;
  }
  window.addEventListener("hashchange", arrive);
  // What the page has no room for, from the data.
  function fill(more) {
    var n = matters.findIndex(function (m) { return m.id === more.dataset.matter; }), list = document.createDocumentFragment();
    all.forEach(function (f, i) {
      if (f[0] !== n) return;
      var div = document.createElement("div"), head = document.createElement("p"), why = document.createElement("p");
      div.className = "group";
      head.textContent = data.places[f[2]] + (f[5] >= 0 ? ", accounts: " + f[5] : "") + " (" + severities[f[4]] + ") [" + data.prints.substr(12 * i, 12) + "]";
      why.className = "faint";
      why.textContent = data.texts[f[6]] + " Way out: " + data.texts[f[7]];
      div.append(head, why);
      list.append(div);
    });
    more.replaceChildren(list);
  }
  document.querySelectorAll(".more").forEach(function (more) {
    more.closest("details").addEventListener("toggle", function () { fill(more); }, { once: true });
  });
  document.getElementById("printall").addEventListener("click", function () {
    var closed = Array.prototype.filter.call(document.querySelectorAll("details"), function (d) { return !d.open; });
    document.querySelectorAll(".more").forEach(fill);
    closed.forEach(function (d) { d.open = true; });
    window.addEventListener("afterprint", function () { closed.forEach(function (d) { d.open = false; }); }, { once: true });
    setTimeout(function () { window.print(); }, 50);
  });
  fromAddress();
  apply();
  arrive();
})();
