/*
 * Stands in a copy of the writer's page, in a sandboxed frame of the builder, where it is the only script that may run: shows what is under the
 * pointer, and tells the builder what was clicked.
 */
import { pickedSelectors, type Rung } from '../core/forms/selector';

/** Draws a line around one element at a time, of its own kind. */
const marker = (style: string) => {
  let marked: HTMLElement | null = null;
  return (element: Element | null) => {
    if (marked) marked.style.cssText = marked.dataset.inksetBefore ?? '';
    marked = element instanceof HTMLElement ? element : null;
    if (!marked) return;
    marked.dataset.inksetBefore = marked.style.cssText;
    marked.style.cssText += style;
  };
};
const hover = marker(';outline:2px dashed #17645c');
const choose = marker(';outline:4px solid #17645c;outline-offset:2px');
let chosen: Element | null = null;
addEventListener('mouseover', (event) => {
  if (event.target !== chosen) hover(event.target as Element);
});
addEventListener(
  'click',
  (event) => {
    event.preventDefault();
    event.stopPropagation();
    const rungs: Rung[] = [];
    for (
      let at = event.target as Element | null;
      at && at !== document.body && at !== document.documentElement;
      at = at.parentElement
    )
      rungs.push({ tag: at.localName, id: at.id, classes: [...at.classList] });
    const countOf = (selector: string) => document.querySelectorAll(selector).length;
    if (rungs.length) parent.postMessage({ inksetPicked: pickedSelectors(rungs, countOf) }, '*');
  },
  true,
);
addEventListener('message', (event) => {
  const { inksetShow } = event.data as { inksetShow?: string };
  const all = inksetShow ? document.querySelectorAll(inksetShow) : [];
  // The last one is where the form would stand.
  hover(null);
  chosen = all[all.length - 1] ?? null;
  choose(chosen);
  chosen?.scrollIntoView({ block: 'end' });
});
