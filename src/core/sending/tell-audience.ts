import { counted, together } from '../growth/figures';
import { type Names, tell } from '../readers/tell';
import type { Audience, Part } from './audience';

const gone = (what: string) => `a ${what} that was deleted`;
const named = (what: string, name: string | undefined) => (name === undefined ? gone(what) : `“${name}”`);
const small = (sentence: string) => sentence.charAt(0).toLowerCase() + sentence.slice(1).replace(/\.$/, '');

/** A part of an audience in words; people picked one by one by their addresses, as far as those are known. */
export function partWords(part: Part, names: Names, people: Record<string, string>): string {
  switch (part.kind) {
    case 'list':
      return `everyone who reads ${named('list', names.lists[part.id])}`;
    case 'tag':
      return `everyone tagged “${part.tag}”`;
    case 'segment':
      return `the segment ${named('segment', names.segments[part.id])}`;
    case 'readers': {
      if (part.ids.length === 0) return 'people yet to be named';
      const known = part.ids.map((id) => people[id]).filter((one) => one !== undefined);
      return known.length === part.ids.length ? together(known) : counted(part.ids.length, 'person', 'people');
    }
    case 'those':
      return small(tell(part.condition, names));
  }
}

/** An audience in words that go on from "It goes to …". */
export function audienceWords(audience: Audience, names: Names, people: Record<string, string>): string {
  const all = (parts: Part[]) => parts.map((part) => partWords(part, names, people)).join(', and ');
  return audience.without.length ? `${all(audience.to)}, but not ${all(audience.without)}` : all(audience.to);
}
