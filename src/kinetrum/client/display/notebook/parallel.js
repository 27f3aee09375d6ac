// Parallel coordinates: a line for each run, a brush for each axis. Nothing is fetched.
const SVG = "http://www.w3.org/2000/svg";
const [WIDTH, HEIGHT, TOP, BOTTOM, SIDE] = [900, 300, 34, 20, 60];

const make = (name, attributes, parent) => {
  const found = document.createElementNS(SVG, name);
  for (const [key, value] of Object.entries(attributes)) found.setAttribute(key, value);
  parent.append(found);
  return found;
};

const short = (number) => String(Number(number.toPrecision(4)));

// Where a value stands on its axis, from 0 at the bottom to 1 at the top, and back.
function scaleOf(axis) {
  const held = axis.values.filter((value) => value !== null);
  if (!axis.numeric) {
    const names = [...new Set(held)].sort();
    const step = names.length > 1 ? 1 / (names.length - 1) : 0;
    return {
      ticks: names.slice(0, 30).map((name, at) => [names.length > 1 ? at * step : 0.5, name]),
      at: (value) => (value === null ? null : names.length > 1 ? names.indexOf(value) * step : 0.5),
      brush: (low, high) => ({ names: names.filter((_, at) => (names.length > 1 ? at * step : 0.5) >= low && (names.length > 1 ? at * step : 0.5) <= high) }),
    };
  }
  const [low, high] = [Math.min(...held), Math.max(...held)];
  const log = low > 0 && high > 50 * low;
  const to = log ? Math.log : (value) => value;
  const back = log ? Math.exp : (value) => value;
  const span = to(high) - to(low);
  const turn = (share) => (axis.lower ? 1 - share : share);
  const valueAt = (share) => back(to(low) + turn(share) * span);
  return {
    ticks: [0, 0.25, 0.5, 0.75, 1].map((share) => [share, short(valueAt(share))]),
    at: (value) => (value === null ? null : span ? turn((to(value) - to(low)) / span) : 0.5),
    brush: (from, end) => {
      const edges = [valueAt(from), valueAt(end)].sort((a, b) => a - b);
      return { low: Number(edges[0].toPrecision(6)), high: Number(edges[1].toPrecision(6)) };
    },
  };
}

const passes = (axis, brush, value) => {
  if (!brush) return true;
  if (value === null) return false;
  return brush.names ? brush.names.includes(value) : value >= brush.low && value <= brush.high;
};

function render({ model, el }) {
  const axes = model.get("axes").filter((axis) => axis.values.some((value) => value !== null));
  const runs = model.get("runs");
  const svg = make("svg", { viewBox: `0 0 ${WIDTH} ${HEIGHT}`, width: "100%", role: "img" }, el);
  svg.classList.add("kinetrum-parallel");
  svg.setAttribute("aria-label", `Parallel coordinates of ${runs.length} runs`);
  const said = document.createElement("p");
  el.append(said);
  const length = HEIGHT - TOP - BOTTOM;
  const x = (at) => SIDE + (axes.length > 1 ? (at * (WIDTH - 2 * SIDE)) / (axes.length - 1) : 0);
  const y = (share) => TOP + (1 - share) * length;
  const scales = axes.map(scaleOf);
  const lines = runs.map((run, row) => {
    const points = axes.flatMap((axis, at) => {
      const share = scales[at].at(axis.values[row]);
      return share === null ? [] : [`${x(at)},${y(share)}`];
    });
    const line = make("polyline", { class: "line", points: points.join(" ") }, svg);
    make("title", {}, line).textContent = `${run}\n${axes.map((axis) => `${axis.name} ${axis.values[row] ?? "–"}`).join("\n")}`;
    return line;
  });
  const shades = axes.map((axis, at) => {
    make("line", { class: "axis", x1: x(at), x2: x(at), y1: y(0), y2: y(1) }, svg);
    const name = make("text", { class: "name", x: x(at), y: 16, "text-anchor": "middle" }, svg);
    name.textContent = axis.name;
    for (const [share, text] of scales[at].ticks)
      make("text", { x: x(at) + 4, y: y(share) + 4 }, svg).textContent = text;
    const shade = make("rect", { class: "brush", x: x(at) - 5, width: 10, y: 0, height: 0, visibility: "hidden" }, svg);
    const grip = make("rect", { class: "grip", x: x(at) - 12, width: 24, y: y(1) - 6, height: length + 12 }, svg);
    drag(grip, (from, to) => brushed(at, from, to));
    return shade;
  });
  const shareAt = (event) => {
    const box = svg.getBoundingClientRect();
    const inside = ((event.clientY - box.top) / box.height) * HEIGHT;
    return Math.max(0, Math.min(1, 1 - (inside - TOP) / length));
  };
  function drag(grip, tell) {
    let from = null;
    grip.addEventListener("pointerdown", (event) => {
      from = shareAt(event);
      grip.setPointerCapture(event.pointerId);
    });
    grip.addEventListener("pointermove", (event) => from !== null && tell(from, shareAt(event)));
    grip.addEventListener("pointerup", (event) => {
      if (from !== null) tell(from, shareAt(event));
      from = null;
      model.save_changes();
    });
  }
  // A click without a stretch takes the brush away.
  function brushed(at, from, to) {
    const [low, high] = [Math.min(from, to), Math.max(from, to)];
    const brushes = { ...model.get("brushes") };
    delete brushes[axes[at].name];
    const some = high - low > 0.01;
    if (some) brushes[axes[at].name] = scales[at].brush(low, high);
    shades[at].setAttribute("visibility", some ? "visible" : "hidden");
    shades[at].setAttribute("y", y(high));
    shades[at].setAttribute("height", (high - low) * length);
    model.set("brushes", brushes);
    show();
  }
  function show() {
    const brushes = model.get("brushes");
    const inside = runs.filter((run, row) => {
      const fits = axes.every((axis) => passes(axis, brushes[axis.name], axis.values[row]));
      lines[row].classList.toggle("out", !fits);
      return fits;
    });
    model.set("selected", inside);
    said.textContent = `${inside.length} of ${runs.length} runs pass; drag along an axis to choose, click it to let go.`;
  }
  show();
}

export default { render };
