import { configure } from "@testing-library/dom";

// A busy machine needs longer than the library's second to draw a page: waiting ends when the element is there.
configure({ asyncUtilTimeout: 10_000 });

// Interfaces of browsers that the tests' document lacks.
if (typeof window !== "undefined") {
  window.matchMedia ??= (query) =>
    ({
      matches: false,
      media: query,
      addEventListener: () => undefined,
      removeEventListener: () => undefined,
    }) as unknown as MediaQueryList;
  window.ResizeObserver ??= class {
    observe(): void {}
    unobserve(): void {}
    disconnect(): void {}
  };
  window.HTMLElement.prototype.scrollIntoView ??= () => undefined;
  window.HTMLElement.prototype.hasPointerCapture ??= () => false;
  window.scrollTo = () => undefined;
}
