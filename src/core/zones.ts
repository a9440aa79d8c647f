/** What was found of names lately: few are used, and asking for one takes long. */
const known = new Map<string, boolean>();
const MOST_KNOWN = 2_000;

/** Is this a name of the time zone database (IANA), as browsers say them? Whoever makes up names fills no memory. */
export function isZone(name: string): boolean {
  if (!/^[A-Za-z][\w+-]*(\/[\w+-]+){0,2}$/.test(name) || name.length > 60) return false;
  let is = known.get(name);
  if (is === undefined) {
    try {
      is = Boolean(new Intl.DateTimeFormat('en', { timeZone: name }));
    } catch {
      is = false;
    }
    if (known.size >= MOST_KNOWN) known.clear();
    known.set(name, is);
  }
  return is;
}
