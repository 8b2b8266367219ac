import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { App } from "./app";
import "./console.css";

// Some parts measure the page with a style element of their own and do not pass
// the nonce on that the Content-Security-Policy asks for; every style element
// gets it here. Markup of strangers is not parsed anywhere, so none comes by it.
const nonce = document.querySelector<HTMLMetaElement>('meta[name="inkret-nonce"]')?.content;
const createElement = document.createElement.bind(document);
document.createElement = ((name: string, options?: ElementCreationOptions) => {
  const element = createElement(name, options);
  if (nonce && element instanceof HTMLStyleElement) element.nonce = nonce;
  return element;
}) as typeof document.createElement;

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <App />
  </StrictMode>,
);
