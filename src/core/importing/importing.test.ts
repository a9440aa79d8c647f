import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { bare, matchColumns } from './columns';
import { Decoding, encodingOf, sniff } from './dialect';
import { ROW_KINDS } from './import';
import { judgeRow, type Plan } from './judge';
import { mailboxesIn } from './mailboxes';
import { type RiskSample, riskOf } from './risk';
import { asMeant, csvRow, harmless, RowReader } from './rows';
import { kindWords, tellImport } from './told';
import { orderOf, readDate, readState } from './values';

const text = (of: string) => sniff(Buffer.from(of), { whole: true, isUtf8: true });
const dialect = (of: string) => {
  const found = text(of);
  if (!found.ok) throw new Error(found.sentence);
  return found.dialect;
};
const read = (of: string, pieces = [of]) => {
  const reader = new RowReader(dialect(of));
  return [...pieces.flatMap((piece) => reader.push(piece)), ...reader.end()];
};

describe('how a file is read', () => {
  it.each<[string, Partial<ReturnType<typeof dialect>>]>([
    ['email,name\na@x.example,A\nb@x.example,B', { delimiter: ',', header: true, columns: 2 }],
    ['email;name\na@x.example;A, the first\n', { delimiter: ';', header: true }],
    ['email\tname\na@x.example\tA\n', { delimiter: '\t' }],
    ['email|name\na@x.example|A\n', { delimiter: '|' }],
    ['sep=;\nemail;name\na@x.example;A\n', { delimiter: ';', skip: 1 }],
    ["'email','name'\n'a@x.example','O, A'\n", { quote: "'", delimiter: ',' }],
    ['a@x.example,A\nb@x.example,B', { header: false }],
    ['email\na@x.example\n', { shape: 'table', columns: 1, header: true }],
    ['a@x.example', { shape: 'table', header: false }],
    ['A <a@x.example>\nB <b@x.example>', { shape: 'lines' }],
    ['a@x.example, b@x.example; c@x.example d@x.example', { shape: 'lines' }],
    ['E-Mail-Adresse;Vorname\nkaputt;A', { header: true }],
  ])('%j', (of, wanted) => expect(dialect(of)).toMatchObject(wanted));

  it.each<[string, Uint8Array, string | null]>([
    ['UTF-8', Buffer.from('email'), 'utf-8'],
    ['UTF-16 with its mark', Buffer.from('\ufeffemail', 'utf16le'), 'utf-16le'],
    ['UTF-16 without one', Buffer.from('email,name', 'utf16le'), 'utf-16le'],
    ['UTF-16 the other way round', Buffer.from('email,name', 'utf16le').swap16(), 'utf-16be'],
    ['what is binary', Buffer.from([1, 0, 0, 0, 5, 9, 9]), null],
  ])('tells %s', (_, bytes, wanted) => expect(encodingOf(bytes, true)).toBe(wanted));

  it('is Windows-1252 where it is not UTF-8, with its quotes and dashes', () => {
    expect(encodingOf(Buffer.from([0x52, 0xe9]), false)).toBe('windows-1252');
    const decoding = new Decoding('windows-1252');
    expect(decoding.push(Buffer.from([0x93, 0x80, 0xe9, 0x94])) + decoding.end()).toBe('“€é”');
  });

  it('joins what was cut between two pieces: letters, and ends of lines', () => {
    const bytes = Buffer.from('é\r\nb\rc');
    const decoding = new Decoding('utf-8');
    const out = [...bytes].map((byte) => decoding.push(Uint8Array.of(byte))).join('') + decoding.end();
    expect(out).toBe('é\nb\nc');
  });

  it('gives back what was written, whatever is in it and wherever it is cut', () => {
    const cell = fc.string({ unit: 'grapheme', maxLength: 12 }).map((of) => of.replace(/[\r\0\ufeff]/g, ' '));
    fc.assert(
      fc.property(
        fc.array(fc.tuple(cell, cell, cell), { minLength: 1, maxLength: 8 }),
        fc.integer({ min: 1, max: 9 }),
        (rows, size) => {
          const written = rows
            .map((row) => csvRow(row))
            .join('')
            .replaceAll('\r\n', '\n');
          const reader = new RowReader({ shape: 'table', delimiter: ',', quote: '"', skip: 0, columns: 3 });
          const pieces = written.match(new RegExp(`[^]{1,${size}}`, 'g')) ?? [];
          const out = [...pieces.flatMap((piece) => reader.push(piece)), ...reader.end()];
          const full = rows.filter((row) => row.some((one) => harmless(one).trim() !== ''));
          expect(out.map(({ cells }) => cells.map(asMeant))).toEqual(full.map((row) => row.map((one) => asMeant(harmless(one)))));
        },
      ),
    );
  });

  it('spoils one line by a quote that is never closed, and no other', () => {
    const rows = read('email,name\na@x.example,A\n"b@x.example,B\nc@x.example,C\nd@x.example,"D"\n');
    expect(rows.map((row) => [row.row, row.cells[0], row.broken])).toEqual([
      [1, 'email', false],
      [2, 'a@x.example', false],
      [3, '"b@x.example,B', true],
      [4, 'c@x.example', false],
      [5, 'd@x.example', false],
    ]);
  });

  it('ends a row that never ends', () => {
    const reader = new RowReader({ shape: 'table', delimiter: ',', quote: '"', skip: 0, columns: 2 });
    const out = [...reader.push(`a@x.example,"${'x'.repeat(200_000)}`), ...reader.push('\nb@x.example,B\n'), ...reader.end()];
    expect(out.at(-1)!.cells).toEqual(['b@x.example', 'B']);
    expect(out.filter((row) => row.broken)).toHaveLength(1);
  });

  it.each<[string, ReturnType<typeof mailboxesIn>]>([
    ['a@x.example', [{ name: '', address: 'a@x.example' }]],
    ['Anna Reef <a@x.example>', [{ name: 'Anna Reef', address: 'a@x.example' }]],
    [
      '"Reef, Anna" <a@x.example>, b@x.example',
      [
        { name: 'Reef, Anna', address: 'a@x.example' },
        { name: '', address: 'b@x.example' },
      ],
    ],
    ['Anna Reef a@x.example', null],
    ['nothing', null],
  ])('mailboxes of %j', (line, wanted) => expect(mailboxesIn(line)).toEqual(wanted));
});

describe('what the columns are', () => {
  const match = (header: string[] | null, ...rows: string[][]) =>
    matchColumns(header, rows, header?.length ?? rows[0]!.length, []);
  it.each<[string[], string[], string[]]>([
    [
      ['Email Address', 'First Name', 'Opt-in Time'],
      ['a@x.example', 'A', '2024-05-03 10:00:00'],
      ['address', 'first name', 'agreed'],
    ],
    [
      ['Adresse e-mail', 'Prénom', 'Statut'],
      ['a@x.example', 'A', 'abonné'],
      ['address', 'first name', 'state'],
    ],
    [
      ['Correo electrónico', 'Nombre', 'Etiquetas'],
      ['a@x.example', 'A', 'uno'],
      ['address', 'first name', 'tags'],
    ],
    [
      ['Indirizzo e-mail', 'Nome', 'Lingua'],
      ['a@x.example', 'A', 'it'],
      ['address', 'first name', 'language'],
    ],
    [
      ['E-postadress', 'Förnamn', 'Tidszon'],
      ['a@x.example', 'A', 'Europe/Stockholm'],
      ['address', 'first name', 'zone'],
    ],
    [
      ['Naam', 'E-mailadres', 'Notes'],
      ['A', 'a@x.example', 'x'],
      ['name', 'address', 'note'],
    ],
    // A name alone does not make "yes" a moment, nor "gold" a state.
    [
      ['email', 'Confirmed', 'Status'],
      ['a@x.example', 'yes', 'gold'],
      ['address', 'leave out', 'leave out'],
    ],
    [
      ['email', 'What is wrong'],
      ['a@x.example', 'x'],
      ['address', 'leave out'],
    ],
  ])('%j', (header, row, wanted) => expect(match(header, row).columns.map((column) => column.part)).toEqual(wanted));

  it('without names, by what stands in them', () => {
    expect(match(null, ['Anna', 'a@x.example'], ['Bo', 'b@x.example']).columns.map((column) => column.part)).toEqual([
      'name',
      'address',
    ]);
  });
  it('asks where two could be the address, and takes neither', () => {
    const found = match(['Private', 'Email'], ['a@x.example', 'b@y.example']);
    expect([found.addresses, found.columns.map((column) => column.part)]).toEqual([
      [0, 1],
      ['leave out', 'leave out'],
    ]);
  });
  it('finds the newsletter’s own fields by their label', () => {
    const field = { id: 'f1', key: 'city', label: 'Which city?' };
    expect(matchColumns(['email', 'Which city'], [['a@x.example', 'Lisbon']], 2, [field]).columns[1]!.part).toBe('field f1');
    expect(bare('Straße, größer!')).toBe('strassegrosser');
  });
});

describe('what stands in a cell', () => {
  it.each<[string, string | null, string | null]>([
    ['2024-05-03', '2024-05-03', '2024-05-03'],
    ['2024-05-03T23:30:00-03:00', '2024-05-04', '2024-05-04'],
    ['3/5/24', '2024-05-03', '2024-03-05'],
    ['31.12.2023', '2023-12-31', null],
    ['2024/05/03', '2024-05-03', '2024-05-03'],
    ['May 3rd, 2024', '2024-05-03', '2024-05-03'],
    ['Fri, 03 May 2024 10:22:11 +0200', '2024-05-03', '2024-05-03'],
    ['1714731731', '2024-05-03', '2024-05-03'],
    ['2023-02-30', null, null],
    ['1024-05-03', null, null],
    ['soon', null, null],
  ])('the date %j', (of, day, month) => {
    expect(readDate(of, 'day first')?.toISOString().slice(0, 10) ?? null).toBe(day);
    expect(readDate(of, 'month first')?.toISOString().slice(0, 10) ?? null).toBe(month);
  });
  it('tells the order of days by one that can only be a day, and never guesses', () => {
    expect([
      orderOf(['3/5/2024', '13/5/2024']),
      orderOf(['3/5/2024', '3/25/2024']),
      orderOf(['3/5/2024']),
      orderOf(['13/5/2024', '5/13/2024']),
      orderOf(['2024-05-03']),
    ]).toEqual(['day first', 'month first', 'unclear', 'unclear', null]);
  });
  it('knows states in several languages, and none that it does not know', () => {
    expect(['Subscribed', 'abgemeldet', 'hard_bounced', 'SPAM complaint', 'en attente', 'gold'].map(readState)).toEqual([
      'reading',
      'left',
      'bounced',
      'complained',
      'waiting',
      null,
    ]);
  });

  const plan: Plan = {
    parts: ['address', 'name', 'state', 'agreed', 'field f', 'field k'],
    dates: 'day first',
    fields: [
      { id: 'f', key: 'age', label: 'Age', kind: 'number', options: [] },
      { id: 'k', key: 'kind', label: 'Kind', kind: 'choice', options: ['Red', 'Blue'] },
    ],
  };
  const judge = (...cells: string[]) => judgeRow({ row: 2, cells, broken: false }, plan);
  it('makes a reader of a row', () => {
    expect(judge('Anna Reef <A@X.example>', '', 'active', '3/5/2024', '42', 'red')).toMatchObject({
      ok: true,
      address: { full: 'A@x.example', key: 'a@x.example' },
      firstName: 'Anna',
      state: 'reading',
      answers: { f: 42, k: 'Red' },
    });
    expect(judge('a@x.example', 'Reef, Anna')).toMatchObject({ ok: true, firstName: 'Anna', answers: null });
  });
  it.each<[string[], string]>([
    [[''], 'There is no address in this row.'],
    [['nobody'], 'This is no address: it has no @.'],
    [['a b@x.example'], 'This address has a blank in it.'],
    [['a@b@x.example'], 'There is more than one @ in this address.'],
    [['"a"@x.example'], 'Addresses with quotes are not taken: hardly any mailbox has one.'],
    [[`${'a'.repeat(250)}@x.example`], 'This address is longer than addresses can be (254 characters).'],
    [['a@x.example', '', 'gold'], 'Its state “gold” is not one that is known: reading, waiting, left, bounced or complained.'],
    [['a@x.example', '', '', 'soon'], '“soon” is not a date that can be read.'],
    [['a@x.example', '', '', '', 'old'], '“old” does not fit “Age”, which is a number.'],
    [['a@x.example', '', '', '', '', 'Green'], '“Green” does not fit “Kind”, which is one of its choices.'],
    [['a@x.example', '', '', '', '', '', 'more'], 'This row has 7 cells; the others have 6.'],
  ])('says why not: %j', (cells, why) => expect(judge(...cells)).toMatchObject({ ok: false, why }));
  it('never throws, whatever a row holds', () => {
    fc.assert(
      fc.property(fc.array(fc.string({ unit: 'binary', maxLength: 30 }), { maxLength: 8 }), (cells) => void judge(...cells)),
    );
  });
});

describe('whether it looks bought', () => {
  const fine: RiskSample = {
    size: 1_000,
    roles: 10,
    throwaway: 2,
    dead: 5,
    asked: 900,
    old: 10,
    dated: 500,
    top: { domain: 'heronmail.example', people: 300 },
    counting: 20,
  };
  it.each<[string, Partial<RiskSample>, 'fine' | 'ask' | 'refuse']>([
    ['an honest list', {}, 'fine'],
    ['a tenth at dead domains', { dead: 90 }, 'ask'],
    ['a third at dead domains', { dead: 300 }, 'refuse'],
    ['many offices', { roles: 200 }, 'ask'],
    ['nearly nothing else', { roles: 700 }, 'refuse'],
    ['throwaway mailboxes', { throwaway: 80 }, 'ask'],
    ['most agreed long ago', { old: 400 }, 'ask'],
    ['a whole company', { top: { domain: 'firm.example', people: 900 } }, 'ask'],
    ['names that count up', { counting: 900 }, 'ask'],
    ['too few to tell', { size: 12, roles: 12, asked: 12, dead: 4, dated: 0, counting: 0 }, 'fine'],
  ])('%s', (_, more, verdict) => {
    const risk = riskOf({ ...fine, ...more });
    expect([risk.verdict, risk.reasons.length > 0]).toEqual([verdict, verdict !== 'fine']);
  });
});

describe('how it is told', () => {
  const as = { list: 'Field notes', how: null };
  it('as one sentence, before and after', () => {
    expect(tellImport({ new: 6, joins: 1, known: 2, ends: 1, twice: 1, waits: 1, bad: 1 }, as, false)).toBe(
      'Of 13 rows, 7 become readers of Field notes, 2 are on it already, 1 is suppressed, 2 are passed over and 1 cannot be read.',
    );
    expect(tellImport({ new: 1, waits: 2 }, { list: 'Field notes', how: 'asked' }, true)).toBe(
      'Of 3 rows, 3 were asked for Field notes.',
    );
    expect(tellImport({ known: 1 }, as, true)).toBe('Of 1 row, nobody new came and 1 is on it already.');
    expect(tellImport({}, as, false)).toBe('There is no row in it.');
    expect(kindWords('waits', { list: 'x', how: 'vouched' }).words).toBe('Not brought: nobody can vouch for them.');
    expect(kindWords('new', { list: 'x', how: 'vouched' }).words).toBe('Read x from then on.');
    expect(tellImport({ new: 40 }, { list: 'x', how: 'refused' }, false)).toBe(
      'These 40 rows look bought or scraped, and are not brought.',
    );
    for (const kind of ROW_KINDS) expect(kindWords(kind, { list: 'x', how: 'refused' }).words).toBe('Not brought.');
  });
});
