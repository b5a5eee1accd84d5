import { StrictMode } from "react";
import { createRoot } from "react-dom/client";

import { App } from "./app/App";
import { applyTheme, keptTheme } from "./lib/theme";
import "./styles.css";

applyTheme(keptTheme());

const root = document.getElementById("root");
if (root === null) {
  throw new Error("the page has no root element");
}
createRoot(root).render(
  <StrictMode>
    <App />
  </StrictMode>,
);
