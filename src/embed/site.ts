/*
 * Remembers how a visitor first and last came to a site: UTM set, referrer, landing page. Kept in the site's own local storage if the site
 * allows it (`data-storage="no"` on the tag says that it does not), else in the page alone. No cookies, nothing sent by itself: forms take it
 * along when they are sent in.
 */
import type { Touch } from '../core/growth/attribution';

const NAME = 'inkset:touches';
const tag = document.currentScript;
const allowed = tag?.getAttribute('data-storage') !== 'no';

function kept(): { first: Touch; last: Touch } | null {
  try {
    return allowed ? JSON.parse(localStorage.getItem(NAME) ?? 'null') : null;
  } catch {
    return null;
  }
}

const query = new URLSearchParams(location.search);
const utm = (name: string) => (query.get(`utm_${name}`) ?? '').slice(0, 120);
let from = '';
try {
  // The page one comes from within the same site says nothing about where somebody came from.
  if (document.referrer && new URL(document.referrer).host !== location.host) from = document.referrer;
} catch {}
const landing = new URL(location.href);
landing.hash = '';
// Identifiers that advertising networks hang on addresses to follow people are not kept.
for (const name of [...landing.searchParams.keys()]) if (/clid$|click_?id$/i.test(name)) landing.searchParams.delete(name);

const now: Touch = {
  at: new Date().toISOString(),
  landing: landing.href.slice(0, 1000),
  referrer: from.slice(0, 1000),
  source: utm('source'),
  medium: utm('medium'),
  campaign: utm('campaign'),
  term: utm('term'),
  content: utm('content'),
};
const before = kept();
const speaks = Boolean(now.referrer || now.source || now.medium || now.campaign);
const touches = { first: before?.first ?? now, last: speaks || !before ? now : before.last };
try {
  if (allowed) localStorage.setItem(NAME, JSON.stringify(touches));
} catch {}
(window as { inksetTouches?: () => typeof touches }).inksetTouches = () => touches;
