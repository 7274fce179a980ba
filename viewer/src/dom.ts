// Elements, made in short. Text from files goes in as text, never as markup.

type Child = Node | string | null | undefined | false;
type Attributes = Record<string, string | number | boolean | EventListener | undefined>;

export function h<K extends keyof HTMLElementTagNameMap>(
  tag: K, attributes: Attributes = {}, ...children: Child[]
): HTMLElementTagNameMap[K] {
  const made = document.createElement(tag);
  for (const [key, value] of Object.entries(attributes)) {
    if (typeof value === "function") made.addEventListener(key, value);
    else if (typeof value === "boolean") made.toggleAttribute(key, value);
    else if (value !== undefined) made.setAttribute(key, String(value));
  }
  made.append(...children.filter((one): one is Node | string => !!one));
  return made;
}

/** A switch with its word. */
export function check(word: string, on: boolean, change: (on: boolean) => void, disabled = false): HTMLElement {
  const box = h("input", { type: "checkbox", checked: on, disabled });
  box.addEventListener("change", () => change(box.checked));
  return h("label", { class: disabled ? "switch off" : "switch" }, box, word);
}

export function section(title: string, ...children: Child[]): HTMLElement {
  return h("section", {}, h("h2", {}, title), ...children);
}
