// The page of `zesty-otter look`: a sheet of all assets, and one asset in the round, which follow the files.

import { movedBetween, Panel } from "./controls";
import { check, h } from "./dom";
import { count, size, type Facts, type Finding, type Source, type Vec3 } from "./facts";

interface Entry {
  key: string;
  name: string;
  about: string;
  state: string;
  error: string;
  triangles: number | null;
  size: Vec3 | null;
  errors: number;
  warnings: number;
  before: boolean;
  version: number;
}

interface Listing {
  title: string;
  state: string;
  assets: Entry[];
}

interface Change {
  kind: "asset" | "list";
  key?: string;
  text: string;
}

const CARDS = 400; // that are shown before somebody asks for more

export class Page {
  private listing: Listing = { title: "", state: "", assets: [] };
  private open = "";
  private facts: Facts | null = null;
  private beside = false;
  private busy = h("p", { class: "busy", role: "status" });
  private news = h("p", { class: "news", role: "status" });
  private main = h("main", { id: "main" });
  private back = h("a", { href: "#", class: "back" }, "All assets");
  private title = h("h1");
  private filter = { text: "", state: "", findings: false, budget: 0 };
  private panel: Panel | null = null;
  private turn = 0;
  private shown = ""; // what the open asset was made of when it was drawn

  constructor(root: HTMLElement) {
    root.append(h("header", {}, this.title, this.back, this.busy, this.news), this.main);
    window.addEventListener("hashchange", () => void this.route());
    void this.begin();
  }

  private async begin(): Promise<void> {
    await this.refresh();
    await this.route();
    const events = new EventSource("events");
    let lost = false;
    events.addEventListener("message", (event) => void this.follow(JSON.parse(event.data) as Change));
    events.addEventListener("error", () => {
      lost = true;
      this.news.textContent = "The program behind this page has ended. Start it again to go on.";
    });
    events.addEventListener("open", () => {
      // What happened in between was not told.
      if (lost) void this.follow({ kind: "list", text: "" });
      lost = false;
    });
  }

  private async refresh(): Promise<void> {
    this.listing = (await (await ask("assets.json")).json()) as Listing;
    document.title = `${this.listing.title} · Zesty Otter`;
  }

  private async follow(change: Change): Promise<void> {
    await this.refresh();
    const entry = this.listing.assets.find((one) => one.key === this.open);
    // Of what is shown already it was said what moved.
    const old = change.key === this.open && !!entry && this.shown === stateOf(entry);
    if (change.text && !old) this.news.textContent = change.text;
    if (!this.open) this.showSheet();
    else if (!entry) await this.route();
    else if (this.shown !== stateOf(entry)) await this.showAsset(true);
  }

  private async route(): Promise<void> {
    const wanted = decodeURIComponent(location.hash.slice(1));
    const { assets } = this.listing;
    const only = assets.length === 1 ? assets[0].key : "";
    this.open = assets.some((one) => one.key === wanted) ? wanted : only;
    this.back.hidden = !this.open || assets.length < 2;
    if (this.open) await this.showAsset(false);
    else this.showSheet();
  }

  // ---- all assets

  private showSheet(): void {
    this.closePanel();
    this.title.textContent = this.listing.title;
    const cards = h("ul", { class: "cards" });
    const counted = h("p", { class: "faint", role: "status" });
    const more = h("button", { type: "button", class: "more" }, `Show ${CARDS} more`);
    let most = CARDS;
    more.addEventListener("click", () => {
      most += CARDS;
      draw();
    });
    const draw = (): void => {
      const shown = this.listing.assets.filter((one) => this.fits(one));
      cards.replaceChildren(...shown.slice(0, most).map((one) => card(one)));
      more.hidden = shown.length <= most;
      counted.textContent = `${shown.length.toLocaleString("en")} of ${count(this.listing.assets.length, "asset")}`;
    };
    const states = [...new Set(this.listing.assets.map((one) => one.state))];
    const state = h("select", { "aria-label": "state" }, h("option", { value: "" }, "every state"),
      ...states.map((one) => h("option", { value: one, selected: one === this.filter.state }, one)));
    state.addEventListener("change", () => {
      this.filter.state = state.value;
      draw();
    });
    const text = h("input", { type: "search", placeholder: "name", "aria-label": "search by name", value: this.filter.text });
    text.addEventListener("input", () => {
      this.filter.text = text.value;
      draw();
    });
    const budget = h("input", { type: "number", min: 0, step: 1000, "aria-label": "only assets with more triangles than", value: this.filter.budget || "" });
    budget.addEventListener("input", () => {
      this.filter.budget = Number(budget.value) || 0;
      draw();
    });
    const findings = check("with findings", this.filter.findings, (on) => {
      this.filter.findings = on;
      draw();
    });
    const empty = this.listing.state ? h("p", { class: "empty" }, this.listing.state) : null;
    const filters = h("div", { class: "filters", role: "search" }, text, state, findings,
      h("label", {}, "over ", budget, " triangles"), counted);
    this.main.replaceChildren(...[this.listing.assets.length ? filters : null, empty, cards, more].filter((one) => !!one));
    draw();
  }

  private fits(one: Entry): boolean {
    const { text, state, findings, budget } = this.filter;
    return one.name.toLowerCase().includes(text.toLowerCase()) && (!state || one.state === state)
      && (!findings || one.errors + one.warnings > 0) && (!budget || (one.triangles ?? 0) > budget);
  }

  // ---- one asset

  private closePanel(): void {
    this.panel?.viewer.close();
    this.panel = null;
    this.facts = null;
  }

  /** Show the open asset; `again` when its file has changed: the camera stays, and what moved is marked. */
  private async showAsset(again: boolean): Promise<void> {
    const entry = this.listing.assets.find((one) => one.key === this.open);
    if (!entry) return;
    const turn = ++this.turn;
    this.shown = stateOf(entry);
    this.title.textContent = entry.name;
    if (!again) this.closePanel();
    if (!this.panel) {
      this.panel = new Panel({ beside: (on) => {
        this.beside = on;
        void this.showAsset(true);
      } });
      this.main.replaceChildren(this.panel.root);
    }
    const panel = this.panel;
    if (entry.error) {
      panel.showProblem(this.facts ? `${entry.error} The picture shows it as it was last.` : entry.error);
      if (this.facts) return;
    }
    this.busy.textContent = "Preparing …";
    try {
      const after = await sourceOf(entry, "after");
      if (turn !== this.turn) return;
      const before = this.beside && entry.before ? await sourceOf(entry, "before") : null;
      if (turn !== this.turn) return;
      const old = again ? this.facts : null;
      const moved = old ? movedBetween(old, after.facts) : { nodes: [], words: [] };
      this.facts = after.facts;
      await panel.viewer.show(after, before, again);
      panel.viewer.marked = new Set(moved.nodes);
      panel.fill(after, moved.words, entry.before ? (before ? "on" : "off") : "none");
      if (moved.words.length) this.news.textContent = moved.words.join("; ");
      if (!entry.error) panel.showProblem(after.facts.bounds ? "" : "There is nothing to draw: no faces.");
      panel.viewer.invalidate();
    } catch (problem) {
      if (turn === this.turn) panel.showProblem((problem as Error).message);
    } finally {
      if (turn === this.turn) this.busy.textContent = "";
    }
  }
}

function stateOf(entry: Entry): string {
  return `${entry.version} ${entry.error}`;
}

function card(one: Entry): HTMLElement {
  const picture = h("img", { src: `thumb/${one.key}.png?v=${one.version}`, alt: "", loading: "lazy", width: 220, height: 140 });
  picture.addEventListener("error", () => picture.replaceWith(h("span", { class: "nothing" }, "no picture")));
  const rows: string[] = [];
  if (one.size) rows.push(size(one.size));
  if (one.triangles !== null) rows.push(count(one.triangles, "triangle"));
  const wrong = [one.errors && count(one.errors, "error"), one.warnings && count(one.warnings, "warning")].filter(Boolean);
  return h("li", {}, h("a", { href: `#${encodeURIComponent(one.key)}`, class: one.error || one.errors ? "card bad" : "card" },
    picture,
    h("span", { class: "name" }, one.name), h("span", { class: "faint" }, rows.join(", ")),
    h("span", { class: "state" }, [one.state, ...wrong].join(", "))));
}

async function sourceOf(entry: Entry, which: "after" | "before"): Promise<Source> {
  const tail = `?which=${which}&v=${entry.version}`;
  const data = (kind: string) => async (): Promise<ArrayBuffer> => (await ask(`${kind}/${entry.key}.bin${tail}`)).arrayBuffer();
  return {
    facts: (await (await ask(`facts/${entry.key}.json${tail}`)).json()) as Facts,
    findings: async () => (await (await ask(`findings/${entry.key}.json${tail}`)).json()) as Finding[],
    model: data("model"),
    edges: data("edges"),
    footing: data("footing"),
  };
}

/** What the server says; its own words when it refuses. */
async function ask(path: string): Promise<Response> {
  let answer: Response;
  try {
    answer = await fetch(path);
  } catch {
    throw new Error("The program behind this page has ended. Start it again to go on.");
  }
  if (!answer.ok) throw new Error((await answer.text()) || `The page's program answered ${answer.status}.`);
  return answer;
}
