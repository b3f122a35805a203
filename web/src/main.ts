/** A project's first points come first, then the page round them. */
import "./index.css";

const found = /^\/p\/([0-9a-f]{32})(?:\/([a-z_]+))?/.exec(window.location.pathname);
const points = found
  ? import("./shell/early").then((m) => m.begin(found[1]!, found[2] ?? "")).catch(() => undefined) // the page says what failed
  : Promise.resolve();
void points.then(() => import("./shell/mount")).then((m) => m.mount());
