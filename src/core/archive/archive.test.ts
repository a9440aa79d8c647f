import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { renamed, renamer } from './newsletter';
import { lineSchema, SHEETS } from './sheets';

const OLD = '01a218f8-7a82-7d08-84a0-a85964157caa';

describe('ids of a newsletter that is brought back', () => {
  it('are version 7, always the same, of the same time, and no two newsletters’ own', () => {
    const here = renamer('01a218f8-0000-7000-8000-000000000001');
    expect(here(OLD)).toBe(here(OLD));
    expect(here(OLD)).toMatch(/^01a218f8-7a82-7[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$/);
    expect(here(OLD)).not.toBe(renamer('01a218f8-0000-7000-8000-000000000002')(OLD));
    fc.assert(
      fc.property(fc.uuid(), fc.uuid(), (a, b) => {
        expect(here(a)).toMatch(/^[0-9a-f]{8}-[0-9a-f]{4}-7[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$/);
        expect(here(a) === here(b)).toBe(a === b);
      }),
    );
  });

  it('replace those that the file gives and nothing that only looks like one; pictures move with them', () => {
    const rename = (old: string) => old.toUpperCase();
    const other = OLD.replace('01a2', '01a3');
    const pictures = { from: 'https://go.old.example', to: 'https://go.new.example' };
    expect(
      renamed(
        `${OLD} ${other} https://go.old.example/e/media/${OLD}.png https://go.old.example/e/x`,
        new Set([OLD]),
        rename,
        pictures,
      ),
    ).toBe(`${OLD.toUpperCase()} ${other} https://go.new.example/e/media/${OLD.toUpperCase()}.png https://go.old.example/e/x`);
  });
});

describe('lines of a sheet', () => {
  const tags = lineSchema(SHEETS.find((sheet) => sheet.name === 'tags')!);
  it.each([
    [{ name: 'diver', created_at: '2026-11-24T09:00:00.123456+00:00' }, null],
    [{ name: 'diver', created_at: '2026-11-24T09:00:00Z', later: 1 }, null],
    [{ name: 'diver' }, /“created_at” is required/],
    [{ name: 7, created_at: '2026-11-24T09:00:00Z' }, /“name” must be a string/],
    [{ name: 'a\0', created_at: '2026-11-24T09:00:00Z' }, /“name”/],
    [{ name: '\ud83d', created_at: '2026-11-24T09:00:00Z' }, /“name”/],
    [{ name: 'diver', created_at: 'infinity' }, /“created_at”/],
    [[], /must be of type object/],
    ['x', /must be of type object/],
  ])('%j', (line, fault) => {
    const { error } = tags.validate(line);
    if (fault === null) expect(error).toBeUndefined();
    else expect(error?.message).toMatch(fault);
  });

  it('name no table twice, and nothing before it is there', () => {
    expect(new Set(SHEETS.map((sheet) => sheet.table)).size).toBe(SHEETS.length);
    const there = new Set(['form test']);
    for (const sheet of SHEETS)
      for (const [name, { id }] of Object.entries(sheet.columns)) {
        if (name === 'id' && id) there.add(id);
        // A letter that somebody got may be of a reader who is not there any more.
        else if (id && id !== 'reader') expect([sheet.name, name, there.has(id)]).toEqual([sheet.name, name, true]);
      }
  });
});
