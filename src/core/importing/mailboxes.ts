export type Mailbox = { name: string; address: string };

const ONE =
  /\s*(?:"((?:[^"\\]|\\.)*)"|([^<>,;"]*?))\s*<\s*([^<>\s]+@[^<>\s]+)\s*>\s*(?:[,;]|$)|\s*([^<>,;\s"]+@[^<>,;\s"]+)\s*(?:[,;\s]|$)/y;

/** The mailboxes of a line ("Name <address>", plain addresses, several of them with commas between), or null where it holds anything else. */
export function mailboxesIn(line: string): Mailbox[] | null {
  const boxes: Mailbox[] = [];
  ONE.lastIndex = 0;
  while (ONE.lastIndex < line.length) {
    if (line.slice(ONE.lastIndex).trim() === '') break;
    const found = ONE.exec(line);
    if (!found) return null;
    const [, quoted, name, address, plain] = found;
    boxes.push({ name: (quoted?.replace(/\\(.)/g, '$1') ?? name ?? '').trim(), address: address ?? plain! });
  }
  return boxes.length ? boxes : null;
}
