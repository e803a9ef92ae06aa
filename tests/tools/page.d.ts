/** What the page's scripts know of the document beyond the browser's own types: htmx, the app itself, and that elements found by selectors are HTML. */
interface Window { app: any; htmx: any }
declare const htmx: any;
interface Element {
  readonly dataset: DOMStringMap;
  value: any;
  checked: boolean;
  disabled: boolean;
  hidden: boolean;
  open: boolean;
  tabIndex: number;
  max: any;
  min: any;
  href: any;
  form: any;
  title: string;
  readonly style: CSSStyleDeclaration;
  focus(options?: object): void;
  click(): void;
  showModal(): void;
  close(): void;
}
interface EventTarget { closest(selector: string): any; matches(selector: string): boolean; dataset: DOMStringMap; value: any; checked: any; form: any; id: string }
interface Event { detail: any }
