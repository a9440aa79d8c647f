/*
 * Puts a form where its script tag stands, or over the page. It stands in a shadow root, so the page's styles do not reach in and ours do not
 * leak out. Sends in place; where anything goes wrong the form says so and stays. No cookies: what somebody closed, joined or was shown is
 * kept in the page's own local storage, and only if the page lets us. Works on single-page sites: it looks again when the address changes.
 */
import type { Placement } from '../core/forms/placement';
import { standsOn } from '../core/forms/targeting';
import { solve, type WorkChallenge } from '../core/forms/work';

type Version = { css: string; html: string; thanks: string; redirect: string; placement: Placement; over: boolean; away: string };
type Data = { id: string; action: string; a: Version; b: Version | null };
type Answer = {
  ok: boolean;
  error?: {
    sentence: string;
    fields?: Record<string, string>;
    /** To be sent along the next time. */
    next?: Record<string, string>;
    /** Work to show first, while the form is under attack. */
    challenge?: WorkChallenge;
  };
};

// Replaced by the server with the form as it is now.
declare const __FORM__: Data;

const data = __FORM__;
const tag = document.currentScript as HTMLScriptElement | null;
const key = `inkset:${data.id}`;
const DAY = 86_400_000;

/** Local storage as the page allows it; nothing at all is fine too. */
const kept = (name: string): string | null => {
  try {
    return localStorage.getItem(name);
  } catch {
    return null;
  }
};
const keep = (name: string, value: string) => {
  try {
    localStorage.setItem(name, value);
  } catch {}
};

let letter = 'a';
if (data.b) {
  letter = kept(`${key}:v`) ?? (Math.random() < 0.5 ? 'a' : 'b');
  keep(`${key}:v`, letter);
}
const version = letter === 'b' && data.b ? data.b : data.a;
const { placement, over } = version;

// What happened on a page goes out together when the page is put away or the form is sent in: a message costs the page as much as building
// the form, and should not come while somebody reads.
let happened: string[] = [];
let where = '';
const tell = () => {
  if (!happened.length) return;
  const url = `${data.action}/note?what=${happened}&v=${letter}&at=${encodeURIComponent(where)}`;
  happened = [];
  if (!navigator.sendBeacon?.(url)) fetch(url, { method: 'POST', keepalive: true }).catch(() => {});
};
const note = (what: string) => {
  where = location.origin + location.pathname;
  happened.push(what);
};
addEventListener('pagehide', tell);
document.addEventListener('visibilitychange', () => {
  if (document.visibilityState === 'hidden') tell();
});

const today = (): string => {
  const now = new Date();
  return `${now.getFullYear()}-${String(now.getMonth() + 1).padStart(2, '0')}-${String(now.getDate()).padStart(2, '0')}`;
};

/** Styles as a sheet of ours, which pages with a strict policy for styles allow; browsers that cannot make one get an element. */
function dress(root: ShadowRoot): void {
  const { css } = version;
  try {
    const sheet = new CSSStyleSheet();
    sheet.replaceSync(css);
    root.adoptedStyleSheets = [sheet];
  } catch {
    const style = document.createElement('style');
    style.textContent = css;
    root.prepend(style);
  }
}

let host: HTMLElement | null = null;
let stop: (() => void)[] = [];

function mount(at: (element: HTMLElement) => void): void {
  if (host) return;
  const element = document.createElement('div');
  host = element;
  element.setAttribute('data-inkset-form', data.id);
  const root = element.attachShadow({ mode: 'open' });
  const before = over ? document.activeElement : null;
  const close = (mine: boolean) => {
    if (mine) keep(`${key}:closed`, String(Date.now()));
    element.remove();
    removeEventListener('keydown', onKey);
    if (before instanceof HTMLElement) before.focus();
  };
  const onKey = (event: KeyboardEvent) => {
    if (event.key === 'Escape') close(true);
    const all = [
      ...root.querySelectorAll<HTMLElement>('button,input:not([type=hidden]):not([tabindex="-1"]),select,textarea,a[href]'),
    ];
    if (event.key !== 'Tab' || placement.kind !== 'pop-up' || !all.length) return;
    const edge = event.shiftKey ? all[0] : all[all.length - 1];
    if (root.activeElement !== edge) return;
    event.preventDefault();
    (event.shiftKey ? all[all.length - 1] : all[0])?.focus();
  };
  const show = (html: string) => {
    root.innerHTML = html;
    dress(root);
    root.querySelector('.ink-close')?.addEventListener('click', () => close(true));
  };
  show(version.html);
  at(element);
  note('loaded');
  if (over) {
    addEventListener('keydown', onKey);
    if (placement.kind === 'pop-up') root.querySelector<HTMLElement>('input:not([type=hidden]):not([tabindex="-1"])')?.focus();
  }
  if ('IntersectionObserver' in window) {
    const eye = new IntersectionObserver(
      (entries) => {
        if (!entries.some((entry) => entry.isIntersecting)) return;
        eye.disconnect();
        note('seen');
      },
      { threshold: 0.5 },
    );
    eye.observe(root.querySelector('.ink-form') ?? element);
  }
  wire(root, show);
}

function wire(root: ShadowRoot, show: (html: string) => void): void {
  root.addEventListener('input', () => note('started'), { once: true });

  const fault = (form: HTMLFormElement, name: string, sentence: string) => {
    const found = form.elements.namedItem(name);
    const input = found instanceof RadioNodeList ? found[0] : found;
    const place = input instanceof HTMLElement ? (input.closest('.ink-field') ?? input) : form.querySelector('.ink-row');
    const words = document.createElement('span');
    words.className = 'ink-fault';
    words.setAttribute('role', 'alert');
    words.textContent = sentence;
    place?.append(words);
    if (input instanceof HTMLElement) {
      input.setAttribute('aria-invalid', 'true');
      input.focus();
    }
  };

  let next: Record<string, string> = {};
  root.addEventListener('submit', (event) => {
    event.preventDefault();
    const form = event.target as HTMLFormElement;
    const button = form.querySelector<HTMLButtonElement>('button[type=submit]');
    if (!button || button.disabled) return;
    for (const input of form.querySelectorAll<HTMLInputElement>('[inputmode=email]')) input.type = 'email';
    if (!form.noValidate && !form.reportValidity()) return;
    tell();
    button.disabled = true;
    for (const old of root.querySelectorAll('.ink-fault')) old.remove();
    const body = new URLSearchParams();
    new FormData(form).forEach((entry, name) => {
      body.append(name, String(entry));
    });
    const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
    const here = { page: location.href, referrer: document.referrer, variant: letter, placement: placement.kind, zone };
    for (const [name, text] of Object.entries({ ...here, ...next })) body.set(name, text);
    const touches = (window as { inksetTouches?: () => { first: unknown; last: unknown } }).inksetTouches?.();
    if (touches) {
      body.set('first', JSON.stringify(touches.first));
      body.set('last', JSON.stringify(touches.last));
    }
    const send = async (): Promise<Answer['error']> => {
      const response = await fetch(data.action, { method: 'POST', headers: { accept: 'application/json' }, body });
      const answer: Answer = await response.json();
      if (answer.ok || !answer.error?.challenge || body.has('proof')) return answer.error;
      const proof = await solve(answer.error.challenge).catch(() => '');
      // A page that is not served over https may not work for it: then waiting and pressing again is the way, with the ticket that came along.
      if (!proof) return answer.error;
      body.set('proof', proof);
      return send();
    };
    send()
      .then((error) => {
        if (!error) {
          keep('inkset:joined', '1');
          if (version.redirect) return void location.assign(version.redirect);
          show(version.thanks);
          root.querySelector<HTMLElement>('[role=status]')?.focus();
          return;
        }
        next = error.next ?? {};
        const fields = Object.entries(error.fields ?? {});
        for (const [name, sentence] of fields) fault(form, name, sentence);
        if (!fields.length) fault(form, '', error.sentence);
      })
      .catch(() => fault(form, '', version.away))
      .finally(() => {
        button.disabled = false;
      });
  });
}

/** Nothing comes over the page of somebody who joined, or who closed it not long ago. */
function mayCome(): boolean {
  if (kept('inkset:joined')) return false;
  const closed = Number(kept(`${key}:closed`));
  return !closed || (placement.againAfterDays > 0 && Date.now() - closed > placement.againAfterDays * DAY);
}

function listen(target: EventTarget, name: string, act: (event: Event) => void): void {
  target.addEventListener(name, act, { passive: true });
  stop.push(() => target.removeEventListener(name, act));
}

const article = (): Element | undefined => [...document.querySelectorAll(placement.after || 'article')].at(-1);

function place(): void {
  for (const undo of stop) undo();
  stop = [];
  host?.remove();
  host = null;
  // Room that was kept for a form which now stands elsewhere, or not on this page, is given back.
  const room = tag?.closest<HTMLElement>('[data-inkset-room]');
  const here = standsOn(placement, location.pathname, today);
  if (room && (!here || over || (placement.kind === 'after-post' && article()))) room.style.minHeight = '0';
  if (!here) return;
  if (placement.kind === 'panel' || placement.kind === 'one line') {
    if (tag?.parentNode) mount((element) => tag.parentNode?.insertBefore(element, tag));
    return;
  }
  if (placement.kind === 'after-post') {
    // The end of the article, else where the script stands: it never goes missing.
    const end = article();
    if (end) mount((element) => end.append(element));
    else if (tag?.parentNode) mount((element) => tag.parentNode?.insertBefore(element, tag));
    return;
  }
  const come = () => mount((element) => document.body.append(element));
  const { trigger } = placement;
  if (trigger.click) {
    listen(document, 'click', (event) => {
      if (event.target instanceof Element && event.target.closest(trigger.click)) come();
    });
  }
  if (!mayCome()) return;
  if (trigger.seconds || (!trigger.scroll && !trigger.leaving && !trigger.click)) {
    const timer = setTimeout(come, trigger.seconds * 1000);
    stop.push(() => clearTimeout(timer));
  }
  if (trigger.scroll) {
    listen(window, 'scroll', () => {
      const all = document.documentElement.scrollHeight - innerHeight;
      if (all > 0 && (100 * scrollY) / all >= trigger.scroll) come();
    });
  }
  if (trigger.leaving) {
    listen(document, 'mouseout', (event) => {
      if ((event as MouseEvent).relatedTarget === null && (event as MouseEvent).clientY <= 0) come();
    });
  }
}

let path = location.pathname;
const ready = () => {
  place();
  // Single-page sites change the address without loading a page.
  const look = () => {
    if (location.pathname === path) return;
    path = location.pathname;
    tell();
    setTimeout(place, 50);
  };
  addEventListener('popstate', look);
  for (const name of ['pushState', 'replaceState'] as const) {
    const plain = history[name];
    history[name] = function (this: History, ...rest: Parameters<History['pushState']>) {
      plain.apply(this, rest);
      look();
    };
  }
};
if (placement.kind === 'panel' || placement.kind === 'one line' || document.readyState !== 'loading') ready();
else addEventListener('DOMContentLoaded', ready);
