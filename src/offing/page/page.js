"use strict";
// The page's own script: it fills Bokeh's models with numbers, and moves between units, scenarios, terms and ranges.
(async () => {
  const by = (id) => document.getElementById(id);
  const read = (id) => JSON.parse(by(id).textContent);
  const item = read("models");
  await Bokeh.embed.embed_item(item);
  const doc = Bokeh.documents[0];
  const model = (name) => doc.get_model_by_name(name);
  const time = model("time"), fan = model("fan"), bars = model("bars");
  const shown = { unit: 0, scenario: 0, hidden: new Set() };
  // More bars than these take longer to draw than a hand takes to move on.
  const MOST_BARS = 12000;
  let unit = null, sums = null, draws = true;

  const say = (value, digits = unit.digits) =>
    value === null || value === undefined ? "not known" :
      value.toLocaleString("en-US", { minimumFractionDigits: digits, maximumFractionDigits: digits });
  const signed = (value) => (value >= 0 ? "+" : "−") + say(Math.abs(value));
  const rows_of = (rows, i) => Object.entries(rows).filter(([name, values]) => name !== "baseline" && values[i]);
  const largest = (rows, i) => {
    if (!rows.baseline || rows.baseline[i] === null || rows.baseline[i] === undefined) return "";
    const parts = rows_of(rows, i).sort((a, b) => Math.abs(b[1][i]) - Math.abs(a[1][i]));
    const lines = parts.slice(0, 6).map(([name, values]) => `${signed(values[i])}  ${unit.labels[name] || name}`);
    const rest = parts.slice(6).reduce((sum, [, values]) => sum + values[i], 0);
    if (parts.length > 6) lines.push(`${signed(rest)}  ${parts.length - 6} others`);
    return [`${say(rows.baseline[i])}  baseline`, ...lines].join("\n");
  };

  function show_unit(place) {
    unit = read(`unit-${place}`);
    shown.unit = place;
    shown.hidden = new Set();
    by("unit").value = String(place);
    by("unit-name").textContent = unit.name;
    by("lead").replaceChildren(by(`lead-${place}`).content.cloneNode(true));
    const chapters = by(`chapters-${place}`).content.cloneNode(true);
    const contents = [];
    chapters.querySelectorAll("section").forEach((each, i) => {
      each.id = `chapter-${i}`;
      const line = document.createElement("li"), link = document.createElement("a");
      link.href = `#chapter-${i}`;
      link.textContent = each.dataset.name;
      line.append(link);
      contents.push(line);
    });
    by("contents").replaceChildren(...contents);
    by("chapters").replaceChildren(chapters);
    const select = by("scenario");
    select.replaceChildren(...unit.scenarios.map((each, i) => new Option(each.name, String(i))));
    by("scenario-label").hidden = unit.scenarios.length < 2;
    const past = unit.past;
    const why = past.t.map((_, i) => (i < past.from ? "" : largest(past.rows, i - past.from)));
    model("past").data = {
      t: past.t, value: past.value.map(known), fitted: past.fitted.map(known), label: past.label,
      shown: past.value.map((each) => `${unit.target}: ${say(each)}`), why,
      band: past.fitted.map((each) => (each === null ? "" : `fitted ${say(each)}`)),
    };
    fan.left[0].axis_label = bars.left[0].axis_label = unit.target;
    list_terms();
    shown.scenario = 0;
    range("2");
    show_scenario(0);
  }

  const known = (value) => (value === null ? NaN : value);

  function show_scenario(place) {
    shown.scenario = place;
    by("scenario").value = String(place);
    const own = unit.scenarios[place], names = Object.keys(own.quantiles);
    const columns = { t: own.t, mean: own.mean.map(known), label: own.label };
    columns.shown = own.mean.map((each) => `${unit.target}: ${say(each)}`);
    columns.why = own.t.map((_, i) => largest(own.rows, i));
    columns.band = own.t.map((_, i) =>
      `${names[0]} to ${names[names.length - 1]}: ${say(own.quantiles[names[0]][i])} to ${say(own.quantiles[names[names.length - 1]][i])}`);
    for (let i = 0; `low${i}` in model("ahead").data; i += 1) {
      columns[`low${i}`] = own.quantiles[names[i]].map(known);
      columns[`high${i}`] = own.quantiles[names[names.length - 1 - i]].map(known);
    }
    model("ahead").data = columns;
    for (let i = 0; model(`whisker ${i}`); i += 1) model(`whisker ${i}`).visible = own.t.length < 3;
    model("points").visible = own.t.length < 400;
    for (const name of ["fan origin", "bars origin"]) model(name).location = own.t[0] - unit.width / 2;
    stack();
    fit_heights();
  }

  function list_terms() {
    const fields = Object.entries(unit.looks).map(([name, look]) => {
      const label = document.createElement("label"), box = document.createElement("input"), swatch = document.createElement("span");
      box.type = "checkbox";
      box.checked = true;
      box.dataset.term = name;
      swatch.className = "swatch";
      swatch.style.background = look.color;
      swatch.dataset.hatch = look.hatch;
      box.addEventListener("change", () => {
        if (box.checked) shown.hidden.delete(name); else shown.hidden.add(name);
        stack();
        fit_heights();
      });
      const words = document.createElement("bdi");
      words.textContent = unit.labels[name] || name;
      label.append(box, swatch, words);
      return label;
    });
    by("terms").replaceChildren(by("terms").querySelector("legend"), ...fields);
  }

  function stack() {
    const columns = () => ({ left: [], right: [], bottom: [], top: [], color: [], hatch: [], term: [], label: [], shown: [] });
    const plain_bars = columns(), hatched = columns();
    sums = { t: [], total: [], low: [], high: [] };
    const half = 0.42 * unit.width;
    const add = (t, label, rows, i) => {
      let up = 0, down = 0, whole = 0;
      for (const name of Object.keys(unit.looks)) {
        const value = rows[name] ? rows[name][i] : 0;
        if (!value || shown.hidden.has(name)) continue;
        whole += value;
        if (!draws || !inside(t)) { if (value > 0) up += value; else down += value; continue; }
        const look = unit.looks[name], found = look.hatch === "blank" ? plain_bars : hatched;
        found.left.push(t - half);
        found.right.push(t + half);
        found.bottom.push(value > 0 ? up : down + value);
        found.top.push(value > 0 ? up + value : down);
        if (value > 0) up += value; else down += value;
        found.color.push(look.color);
        found.hatch.push(look.hatch);
        found.term.push(unit.labels[name] || name);
        found.label.push(label);
        found.shown.push(signed(value));
      }
      sums.t.push(t);
      sums.total.push(whole);
      sums.low.push(down);
      sums.high.push(up);
    };
    const past = unit.past, own = unit.scenarios[shown.scenario];
    const inside = (t) => t >= time.start - unit.width && t <= time.end + unit.width;
    const terms = Object.keys(unit.looks).length;
    const seen = past.t.filter((t, i) => i >= past.from && inside(t)).length + own.t.filter(inside).length;
    draws = seen * terms <= MOST_BARS;
    by("bars-say").textContent = draws
      ? "Contributions are stacked from zero, which is the baseline; the line is their sum."
      : "The line is the sum of all contributions; come closer to see each of them.";
    for (let i = past.from; i < past.t.length; i += 1) add(past.t[i], past.label[i], past.rows, i - past.from);
    own.t.forEach((t, i) => add(t, own.label[i], own.rows, i));
    model("stacks").data = plain_bars;
    model("hatched").data = hatched;
    model("totals").data = { t: sums.t, total: sums.total };
  }

  function fit_heights() {
    const inside = (t) => t >= time.start - unit.width && t <= time.end + unit.width;
    const past = model("past").data, ahead = model("ahead").data;
    let low = Infinity, high = -Infinity;
    const look = (t, values) => {
      for (let i = 0; i < t.length; i += 1) {
        if (!inside(t[i]) || !Number.isFinite(values[i])) continue;
        if (values[i] < low) low = values[i];
        if (values[i] > high) high = values[i];
      }
    };
    look(past.t, past.value);
    look(ahead.t, ahead.mean);
    if ("low0" in ahead) { look(ahead.t, ahead.low0); look(ahead.t, ahead.high0); }
    set_range("fan range", low, high);
    low = Infinity;
    high = -Infinity;
    look(sums.t, sums.low);
    look(sums.t, sums.high);
    set_range("bars range", Math.min(low, 0), Math.max(high, 0));
  }

  function set_range(name, low, high) {
    if (!(low <= high)) return;
    const room = 0.06 * (high - low || Math.abs(high) || 1);
    const own = model(name);
    own.setv({ start: low - room, end: high + room });
  }

  const ends = () => {
    const own = unit.scenarios[shown.scenario];
    return [unit.past.t[0] - unit.width, own.t[0], own.t[own.t.length - 1] + unit.width];
  };

  function range(kind) {
    const [first, origin, last] = ends();
    let start = first, end = last;
    if (kind === "0") start = origin - 3 * unit.width;
    else if (kind !== "all") {
      const seasons = Number(kind) * unit.season * unit.width;
      start = Math.max(first, origin - seasons);
      end = Math.min(last, origin + seasons);
    }
    time.setv({ start, end });
    document.querySelectorAll("[data-range]").forEach((each) => each.setAttribute("aria-pressed", String(each.dataset.range === kind)));
  }

  function theme(dark) {
    document.documentElement.classList.toggle("dark", dark);
    by("theme").setAttribute("aria-pressed", String(dark));
    const paper = dark ? "#161c22" : "#fcfbf8", ink = dark ? "#e4e8eb" : "#22303c", faint = dark ? "#2c353d" : "#dfe3e8";
    for (const each of [fan, bars]) {
      each.setv({ background_fill_color: paper, border_fill_color: paper, styles: { "background-color": paper } });
      for (const axis of [...each.below, ...each.left]) axis.setv({ major_label_text_color: ink, axis_label_text_color: ink });
      for (const grid of each.center) if ("grid_line_color" in grid.attributes && grid.dimension === 1) grid.grid_line_color = faint;
    }
    for (const name of ["history", "total"]) model(name).glyph.line_color = ink;
    const bands = dark ? ["#4a2f27", "#6f4232", "#9c5a41"] : ["#f6dccb", "#ecb798", "#dd8d68"];
    for (let i = 0; model(`band ${i}`); i += 1) {
      model(`band ${i}`).glyph.fill_color = bands[Math.min(i, 2)];
      model(`whisker ${i}`).glyph.line_color = bands[Math.min(i, 2)];
    }
    for (const name of ["forecast"]) model(name).glyph.line_color = dark ? "#ee9272" : "#b5482a";
    for (const name of ["contributions", "hatched bars"]) model(name).glyph.line_color = paper;
  }

  function save(content, name) {
    const link = document.createElement("a");
    link.href = typeof content === "string" ? content : URL.createObjectURL(content);
    link.download = name;
    link.click();
    if (typeof content !== "string") setTimeout(() => URL.revokeObjectURL(link.href), 1000);
  }

  function save_chart(which, kind) {
    const view = Bokeh.index.find_one_by_id ? Bokeh.index.find_one_by_id(model(which).id) : Bokeh.index.get_by_id(model(which).id);
    if (kind === "svg") {
      const layer = view.export("svg");
      save(new Blob([layer.ctx.get_serialized_svg(true)], { type: "image/svg+xml" }), `${which}.svg`);
    } else view.export("png").canvas.toBlob((content) => save(content, `${which}.png`));
  }

  function save_picture(image, kind) {
    if (kind === "svg") return save(image.src, "picture.svg");
    const canvas = document.createElement("canvas");
    [canvas.width, canvas.height] = [1280, 800];
    canvas.getContext("2d").drawImage(image, 0, 0, 1280, 800);
    return canvas.toBlob((content) => save(content, "picture.png"));
  }

  const text_of = (cell) => (cell.dataset.value === undefined ? cell.textContent : cell.dataset.value);
  const lines = (table, between, quote) =>
    [...table.rows].map((row) => [...row.cells].map((cell) => quote(text_of(cell).trim())).join(between)).join("\n");
  // A cell that begins like a formula would be run as one by a spreadsheet.
  const plain = (text) => (/^[=+@\t\r]|^-(?![\d.])/.test(text) ? `'${text}` : text);
  const csv = (text) => { const own = plain(text); return /[",\n]/.test(own) ? `"${own.replaceAll('"', '""')}"` : own; };

  function sort(head) {
    const table = head.closest("table"), row = head.closest("tr"), place = [...row.cells].indexOf(head);
    const rising = head.getAttribute("aria-sort") !== "ascending";
    for (const each of row.cells) each.removeAttribute("aria-sort");
    head.setAttribute("aria-sort", rising ? "ascending" : "descending");
    const key = (each) => {
      const cell = each.cells[place], value = Number(cell.dataset.value);
      return cell.dataset.value !== undefined && cell.dataset.value !== "" && !Number.isNaN(value) ? value : cell.textContent.trim();
    };
    const found = [...table.tBodies[0].rows].map((each) => [key(each), each]);
    found.sort(([a], [b]) => (typeof a === "number" && typeof b === "number" ? a - b : String(a).localeCompare(String(b), "en")));
    if (!rising) found.reverse();
    table.tBodies[0].replaceChildren(...found.map(([, each]) => each));
  }

  document.addEventListener("click", (event) => {
    const button = event.target.closest("button");
    if (!button) return;
    const data = button.dataset;
    if (data.range) range(data.range);
    else if (data.move) { const step = Number(data.move) * (time.end - time.start); time.setv({ start: time.start + step, end: time.end + step }); }
    else if (data.zoom) { const middle = (time.start + time.end) / 2, half = Number(data.zoom) * (time.end - time.start) / 2; time.setv({ start: middle - half, end: middle + half }); }
    else if (data.save) save_chart(data.save, data.as);
    else if (data.picture) save_picture(button.closest("figure").querySelector("img"), data.picture);
    else if (data.unit) { show_unit(Number(data.unit)); by("first").scrollIntoView(); }
    else if ("copy" in data) {
      const text = lines(button.closest(".table").querySelector("table"), "\t", plain);
      if (navigator.clipboard) navigator.clipboard.writeText(text).then(() => { button.textContent = "Copied"; }, () => { select_table(button); });
      else select_table(button);
    } else if (data.csv) save(new Blob([`${lines(button.closest(".table").querySelector("table"), ",", csv)}\n`], { type: "text/csv" }), data.csv);
    else if (button.id === "theme") theme(!document.documentElement.classList.contains("dark"));
    else if (button.closest("table[data-sort] th")) sort(button.closest("th"));
  });

  function select_table(button) {
    const chosen = document.createRange();
    chosen.selectNodeContents(button.closest(".table").querySelector("table"));
    getSelection().removeAllRanges();
    getSelection().addRange(chosen);
    button.textContent = document.execCommand("copy") ? "Copied" : "Selected: press Ctrl+C";
  }

  by("unit").addEventListener("change", (event) => show_unit(Number(event.target.value)));
  by("scenario").addEventListener("change", (event) => show_scenario(Number(event.target.value)));
  if (by("search")) {
    by("search").addEventListener("input", (event) => {
      const word = event.target.value.trim().toLowerCase();
      for (const row of by("overview").querySelectorAll("tbody tr")) row.hidden = !row.cells[0].textContent.toLowerCase().includes(word);
    });
  }
  let waiting = false;
  const moved = () => {
    if (waiting) return;
    waiting = true;
    requestAnimationFrame(() => { waiting = false; stack(); fit_heights(); });
  };
  show_unit(0);
  for (const each of [time.properties.start, time.properties.end]) each.change.connect(moved);
  theme(matchMedia("(prefers-color-scheme: dark)").matches);
  const narrow = () => { for (const each of [fan, bars]) each.below[0].ticker.desired_num_ticks = innerWidth < 600 ? 3 : 6; };
  addEventListener("resize", narrow);
  narrow();
  document.documentElement.dataset.ready = "yes";
})();
