import { FIELD_KINDS, type FieldKind } from '../forms/fields';
import { parseAddress } from '../readers/address';
import { folded } from '../readers/condition';
import { readDate, readState } from './values';

/** What a column is: one of these, `field ID` of one that the newsletter has, or `new KIND` for one to be made with the column's name. */
export const PARTS = [
  'address',
  'first name',
  'name',
  'state',
  'agreed',
  'tags',
  'note',
  'language',
  'zone',
  'leave out',
] as const;
export type Part = (typeof PARTS)[number] | `field ${string}` | `new ${FieldKind}`;
export const newKinds = FIELD_KINDS.filter((kind) => kind !== 'choice' && kind !== 'several choices');

export type Column = { name: string; part: Part /** Of its first cells, some that are not empty. */; examples: string[] };
export type Matched = {
  columns: Column[] /** Columns that could each be the address, where it is not clear which. */;
  addresses: number[];
};

/** Names that columns have in the languages of the newsletters, folded and without what is no letter. */
const NAMES: [Part, string][] = [
  [
    'address',
    'email|emailaddress|mail|mailaddress|address|subscriber|subscriberemail|emailadresse|mailadresse|adresse|adressemail|courriel|adresseemail|correo|correoelectronico|direccion|indirizzo|indirizzoemail|posta|emailadres|endereco|enderecodeemail|correioeletronico|epost|epostadress|epostadresse|adresemail|adres|mejl|sahkoposti',
  ],
  [
    'first name',
    'firstname|first|givenname|forename|vorname|rufname|prenom|nombre|nome|voornaam|primeironome|fornamn|fornavn|imie|etunimi',
  ],
  [
    'name',
    'name|fullname|displayname|vollername|nomcomplet|nom|nombrecompleto|nomecompleto|naam|volledigenaam|namn|navn|imieinazwisko|nazwa|nimi',
  ],
  [
    'state',
    'state|status|subscriptionstatus|subscriberstatus|stand|zustand|etat|statut|estado|stato|situacao|tillstand|stan|tila',
  ],
  [
    'agreed',
    'agreed|agreedat|consent|consentat|consentdate|optin|optintime|optindate|optinat|confirmed|confirmedat|confirmtime|joined|joinedat|joindate|subscribed|subscribedat|subscribedon|subscribeddate|signupdate|signedup|signedupat|created|createdat|createdon|dateadded|addedat|added|angemeldet|angemeldetam|anmeldedatum|bestatigtam|datum|dateinscription|inscritle|fechadealta|fecha|suscritoel|datadiiscrizione|iscrittoil|datadeinscricao|inscritoem|aanmelddatum|aangemeldop|anmald|tilmeldt|datadodania|datazapisu',
  ],
  [
    'tags',
    'tags|tag|labels|label|groups|group|schlagworte|etiketten|etiquettes|etiquetas|etichette|labels|taggar|etykiety|tunnisteet',
  ],
  ['note', 'note|notes|comment|comments|remark|notiz|notizen|bemerkung|remarque|nota|notas|opmerking|anteckning|uwagi'],
  ['language', 'language|lang|locale|sprache|langue|idioma|lingua|taal|sprak|sprog|jezyk|kieli'],
  ['zone', 'timezone|zone|tz|zeitzone|fuseauhoraire|zonahoraria|fusoorario|tijdzone|fusohorario|tidszon|tidszone|strefaczasowa'],
  // Written beside the rows that could not be brought, for whoever mends them.
  ['leave out', 'whatiswrong'],
];
const BY_NAME = new Map(NAMES.flatMap(([part, names]) => names.split('|').map((name): [string, Part] => [name, part])));

/** A column's name as it is looked up: letters only, small and without marks. */
export const bare = (name: string): string =>
  folded(name)
    .normalize('NFKD')
    .replace(/[^\p{L}\p{N}]/gu, '')
    .replaceAll('ß', 'ss')
    .replaceAll('ł', 'l')
    .replaceAll('ø', 'o');

/** Is this what columns of readers are called? */
export const isColumnName = (cell: string): boolean => BY_NAME.has(bare(cell));

const share = (cells: string[], fits: (cell: string) => boolean) => (cells.length ? cells.filter(fits).length / cells.length : 0);
const MOST = 0.6;
const isAddress = (cell: string) => parseAddress(cell.replace(/^.*<([^<>]+)>\s*$/s, '$1')) !== null;

/**
 * What each column is, by its name and by what stands in it. Nothing is brought by accident: what is not known is left out until somebody says otherwise.
 * `most` is how many columns nearly all rows have. Where several columns hold addresses and no name tells which is meant, none is taken and they are named.
 */
export function matchColumns(
  header: string[] | null,
  rows: string[][],
  most: number,
  fields: { id: string; key: string; label: string }[],
): Matched {
  const width = Math.max(header?.length ?? 0, most, 1);
  const cellsOf = Array.from({ length: width }, (_, at) => rows.map((row) => (row[at] ?? '').trim()).filter(Boolean));
  const byField = new Map(
    fields.flatMap((field) => [[bare(field.label), field.id] as const, [bare(field.key), field.id] as const]),
  );
  const taken = new Set<Part>();
  const columns = cellsOf.map((cells, at): Column => {
    const name = header?.[at]?.trim() || `Column ${at + 1}`;
    const key = header ? bare(header[at] ?? '') : '';
    const examples = [...new Set(cells)].slice(0, 3).map((cell) => cell.slice(0, 80));
    const own = byField.get(key);
    let part: Part = own ? `field ${own}` : (BY_NAME.get(key) ?? 'leave out');
    if (
      part === 'agreed' &&
      share(cells, (cell) => readDate(cell, 'day first') !== null || readDate(cell, 'month first') !== null) < MOST
    )
      part = 'leave out';
    // "Confirmed: yes" is no moment, and a state whose words nobody knows is none of ours.
    if (part === 'state' && share(cells, (cell) => readState(cell) !== null) < MOST) part = 'leave out';
    if (part === 'name' && taken.has('first name')) part = 'leave out';
    if (part !== 'leave out' && part !== 'address' && taken.has(part)) part = 'leave out';
    taken.add(part);
    return { name, part, examples };
  });
  const all = columns.flatMap((column, at) => (column.part === 'address' ? [at] : []));
  // A name that promises addresses counts where some are, or where there are none anywhere.
  const some = all.filter((at) => share(cellsOf[at]!, isAddress) >= 0.3);
  const named = some.length ? some : all;
  const held = cellsOf.flatMap((cells, at) => (share(cells, isAddress) >= MOST ? [at] : []));
  const candidates =
    named.length === 1 && held.filter((at) => at !== named[0]).length === 0
      ? named
      : [...new Set([...named, ...held])].sort((a, b) => a - b);
  for (const at of all) columns[at]!.part = 'leave out';
  if (candidates.length === 1) columns[candidates[0]!]!.part = 'address';
  if (!header && candidates.length === 1 && width === 2) {
    const other = 1 - candidates[0]!;
    if (share(cellsOf[other]!, (cell) => /^[\p{L} .'’-]+$/u.test(cell)) >= MOST) columns[other]!.part = 'name';
  }
  return { columns, addresses: candidates.length > 1 ? candidates : [] };
}
