// Scenes that lie in the page itself: reports and notebooks.

import { Panel } from "./controls";
import { h } from "./dom";
import type { Facts, Finding, Source } from "./facts";

interface Parcel {
  facts: Facts;
  findings: Finding[];
  model: string; // each packed by gzip and written in base 64
  edges: string;
  footing: string;
}

async function unpacked(text: string): Promise<ArrayBuffer> {
  if (!text) return new ArrayBuffer(0);
  const bytes = Uint8Array.from(atob(text), (letter) => letter.charCodeAt(0));
  const stream = new Blob([bytes]).stream().pipeThrough(new DecompressionStream("gzip"));
  return new Response(stream).arrayBuffer();
}

function sourceIn(parcel: Parcel): Source {
  return {
    facts: parcel.facts,
    findings: () => Promise.resolve(parcel.findings),
    model: () => unpacked(parcel.model),
    edges: () => unpacked(parcel.edges),
    footing: () => unpacked(parcel.footing),
  };
}

function parcelIn(holder: Element): Parcel {
  return JSON.parse(holder.querySelector("script")!.textContent!) as Parcel;
}

async function open(holder: Element, stage: HTMLElement): Promise<Panel> {
  const source = sourceIn(parcelIn(holder));
  const panel = new Panel({ compact: true });
  stage.replaceChildren(panel.root);
  await panel.viewer.show(source);
  panel.fill(source);
  return panel;
}

/** Of a report: a button at each picture that puts the asset in its place; one at a time, as browsers hold few. */
export function report(): void {
  type Shown = { panel: Panel; stage: HTMLElement; button: HTMLButtonElement; pictures: HTMLElement | null };
  let shown: Shown | null = null;
  const close = (): void => {
    if (!shown) return;
    shown.panel.viewer.close();
    shown.stage.remove();
    if (shown.pictures) shown.pictures.hidden = false;
    shown.button.textContent = "Turn it around";
    shown.button.setAttribute("aria-expanded", "false");
    shown = null;
  };
  for (const holder of document.querySelectorAll(".round")) {
    const button = h("button", { type: "button", "aria-expanded": "false" }, "Turn it around");
    button.addEventListener("click", () => {
      const again = shown?.button === button;
      close();
      if (again) return;
      const stage = h("div", { class: "here" });
      holder.after(stage);
      button.textContent = "Back to the picture";
      button.setAttribute("aria-expanded", "true");
      const pictures = holder.parentElement!.querySelector<HTMLElement>(".pictures");
      if (pictures) pictures.hidden = true;
      void open(holder, stage).then((panel) => (shown = { panel, stage, button, pictures }));
    });
    holder.append(button);
  }
  const search = document.querySelector<HTMLInputElement>("#search");
  search?.addEventListener("input", () => {
    for (const row of document.querySelectorAll<HTMLElement>("[data-name]")) {
      row.hidden = !row.dataset.name!.toLowerCase().includes(search.value.toLowerCase());
    }
  });
  if (search) search.hidden = false;
}

/** Of a notebook: the scene at once. */
export function notebook(holder: HTMLElement): void {
  const stage = h("div", { class: "here" });
  holder.append(stage);
  void open(holder, stage);
}
