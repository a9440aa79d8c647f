/*
 * Stands in a copy of the writer's page, in a sandboxed frame of the builder, where it is the only script that may run: shows what is under the
 * pointer, and tells the builder what was clicked.
 */
import { pickedSelectors, type Rung } from '../core/forms/selector';

let marked: HTMLElement | null = null;
const mark = (element: Element | null) => {
  if (marked) marked.style.outline = '';
  marked = element instanceof HTMLElement ? element : null;
  if (marked) marked.style.outline = '3px solid #17645c';
};
addEventListener('mouseover', (event) => mark(event.target as Element));
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
  mark(all[all.length - 1] ?? null);
  marked?.scrollIntoView({ block: 'end' });
});
