import { notebook, report } from "./embedded";
import { Page } from "./page";

const { body } = document;
const kind = body.dataset.page;
if (kind === "look") new Page(body);
else if (kind === "report") report();
else if (kind === "notebook") notebook(body);
