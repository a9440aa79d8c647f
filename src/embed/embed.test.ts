import { gzipSync } from 'node:zlib';
import { build } from 'esbuild';
import { beforeAll, describe, expect, it } from 'vitest';
import { startingForm } from '@/core/forms/definition';
import { formCss } from '@/core/forms/look';
import { formHtml, thanksHtml } from '@/core/forms/render';

const made = new Map<string, string>();
beforeAll(async () => {
  const { outputFiles } = await build({
    entryPoints: ['form', 'site'].map((name) => `src/embed/${name}.ts`),
    outdir: 'dist',
    bundle: true,
    minify: true,
    format: 'iife',
    target: 'es2020',
    write: false,
  });
  for (const file of outputFiles) made.set(/(\w+)\.js$/.exec(file.path)![1]!, file.text);
});
const packed = (text: string) => gzipSync(text).length;

describe('the scripts for other people’s pages', () => {
  it('are small: a form with everything it shows under 8 KB packed, the site line under 3 KB', () => {
    const form = startingForm('Lanternfish Letters');
    const version = {
      css: formCss(form.look),
      html: formHtml({ form, action: 'https://go.inkset.example/e/form/000000000000' }),
      thanks: thanksHtml(form),
      placement: form.placement,
    };
    expect(
      packed(
        made
          .get('form')!
          .replace('__FORM__', JSON.stringify({ a: version, b: { ...version, html: version.html.toUpperCase() } })),
      ),
    ).toBeLessThan(8_000);
    expect(packed(made.get('site')!)).toBeLessThan(3_000);
  });
  it('set no cookie, fetch nothing but ours, and evaluate nothing', () => {
    for (const text of made.values())
      expect(text).not.toMatch(/document\.cookie|\beval\(|new Function|XMLHttpRequest|https?:\/\//);
  });
});
