'use client';

import { ArrowDown, ArrowUp } from 'lucide-react';
import type { ActionResult } from '@/core/faults';
import type { FormDefinition } from '@/core/forms/definition';
import type { FormField } from '@/core/forms/fields';
import { effectiveLook, FONTS, faintPairs, LOOKS, type Look, scopedCss } from '@/core/forms/look';
import { type PartId, textOf, withText } from '@/core/forms/parts';
import { shapeOf } from '@/core/forms/placement';
import { contrast } from '@/core/newsletters/identity';
import { Button } from '../kit/button';
import { Amount, Choice, Colour, Ink, Tick, Words } from '../kit/controls';
import { Note } from '../kit/page';
import { FileField } from './file-field';

export type SettingsProps = {
  part: PartId;
  form: FormDefinition;
  set: (form: FormDefinition) => void;
  colour: string;
  lists: { id: string; name: string }[];
  addPicture: (data: FormData) => Promise<ActionResult<{ url: string }>>;
  pick: (part: PartId) => void;
};

const FONT_CHOICES = Object.keys(FONTS).map((value) => ({ value, label: value === 'page' ? 'as the page has it' : value }));

/** The few settings of what was pointed at. */
export function PartSettings({ part, form, set, colour, lists, addPicture, pick }: SettingsProps) {
  const { look } = form;
  const dress = (change: Partial<Look>) => set({ ...form, look: { ...look, ...change } });
  const shown = effectiveLook(look, colour);
  const text = textOf(form, part);
  const words = text !== null && !part.startsWith('field:') && (
    <Words
      label="Words"
      long={part === 'words' || part === 'thanks' || part === 'consent'}
      value={text}
      change={(typed) => set(withText(form, part, typed))}
    />
  );
  const field = form.fields.find(({ key }) => part === `field:${key}`);
  if (field) return <FieldSettings field={field} form={form} set={set} pick={pick} />;
  switch (part) {
    case 'heading':
      return (
        <>
          {words}
          <div className="grid grid-cols-[1fr_84px] gap-2">
            <Choice
              label="Type"
              value={look.headingFont}
              change={(headingFont) => dress({ headingFont })}
              choices={FONT_CHOICES}
            />
            <Amount label="Size" value={look.headingSize} least={14} most={48} change={(headingSize) => dress({ headingSize })} />
          </div>
          <InkOfWords look={look} shown={shown} dress={dress} />
        </>
      );
    case 'words':
      return (
        <>
          {words}
          <Choice label="Type" value={look.font} change={(font) => dress({ font })} choices={FONT_CHOICES} />
          <InkOfWords look={look} shown={shown} dress={dress} />
        </>
      );
    case 'button':
      return (
        <>
          {words}
          <Colour label="Colour" value={look.buttonColour} change={(buttonColour) => dress({ buttonColour })} />
          <Ink
            label="Ink"
            asked="as the button asks"
            value={look.buttonInk}
            shown={shown.buttonInk}
            ratio={contrast(shown.buttonInk, shown.buttonColour)}
            change={(buttonInk) => dress({ buttonInk })}
          />
          <Faint look={shown} about={/button/i} />
        </>
      );
    case 'consent':
      return (
        <>
          {words}
          <p className="text-small text-ink-2">It has to be ticked. Its wording is kept with their consent.</p>
          <Remove act={() => set({ ...form, consent: '' })} />
        </>
      );
    case 'terms':
      return (
        <>
          {words}
          <Words
            label="It leads to"
            type="url"
            value={form.terms.url}
            change={(url) => set({ ...form, terms: { ...form.terms, url } })}
            placeholder="https://"
          />
          <Remove act={() => set({ ...form, terms: { words: '', url: '' } })} />
        </>
      );
    case 'count':
      return (
        <>
          <Amount
            label="Shown from so many readers on"
            value={form.countFrom}
            most={1_000_000}
            change={(countFrom) => set({ ...form, countFrom })}
            hint="Fewer than this are not shown."
          />
          <Remove act={() => set({ ...form, countFrom: 0 })} />
        </>
      );
    case 'lists':
      return (
        <>
          <fieldset className="space-y-2">
            <legend className="mb-1 text-small font-semibold text-ink-2">They choose among</legend>
            {lists.map((list) => (
              <Tick
                key={list.id}
                label={list.name}
                on={form.listChoice.includes(list.id)}
                change={(on) =>
                  set({
                    ...form,
                    listChoice: on ? [...form.listChoice, list.id] : form.listChoice.filter((id) => id !== list.id),
                  })
                }
              />
            ))}
          </fieldset>
          <p className="text-small text-ink-2">All are ticked to begin with.</p>
        </>
      );
    case 'picture':
      return <PictureSettings look={look} dress={dress} addPicture={addPicture} />;
    case 'close':
      return (
        <>
          <p className="text-small text-ink-2">
            Drawn in the ink of the words, or where that is too faint in one that can be read, 44 pixels wide. Esc closes too.
          </p>
          <Amount
            label="Days before it comes again once closed"
            value={form.placement.againAfterDays}
            most={365}
            change={(againAfterDays) => set({ ...form, placement: { ...form.placement, againAfterDays } })}
            hint="0 for never again."
          />
        </>
      );
    case 'thanks':
      return (
        <>
          {words}
          {form.next.redirect && <p className="text-small text-ink-2">Nobody sees them while the form leads to another page.</p>}
        </>
      );
    default:
      return <GroundSettings form={form} look={look} shown={shown} dress={dress} />;
  }
}

const Remove = ({ act }: { act: () => void }) => <Button onClick={act}>Take it out</Button>;

function Faint({ look, about }: { look: Look; about: RegExp }) {
  return faintPairs(look)
    .filter((pair) => about.test(pair.what))
    .map((pair) => (
      <Note key={pair.what} tone="look" title={`${pair.what}: ${pair.ratio.toFixed(1)} to 1`}>
        {pair.wanted} to 1 is what most eyes need.
      </Note>
    ));
}

type Dressing = { look: Look; shown: Look; dress: (change: Partial<Look>) => void };

function InkOfWords({ look, shown, dress }: Dressing) {
  return (
    <>
      <Ink
        label="Ink"
        asked="as the ground asks"
        value={look.inherits ? '' : look.ink}
        shown={shown.ink}
        ratio={contrast(shown.ink, shown.background)}
        // An ink of one's own needs a ground of one's own, or it would be lost on the newsletter's next colour.
        change={(ink) => dress(ink ? { ink, inherits: false, background: shown.background, border: shown.border } : { ink })}
      />
      <Faint look={shown} about={/^Words on the background/} />
    </>
  );
}

function FieldSettings({
  field,
  form,
  set,
  pick,
}: {
  field: FormField;
  form: FormDefinition;
  set: (form: FormDefinition) => void;
  pick: (part: PartId) => void;
}) {
  const { fields } = form;
  const at = fields.indexOf(field);
  const change = (part: Partial<FormField>) =>
    set({ ...form, fields: fields.map((other) => (other.key === field.key ? { ...other, ...part } : other)) });
  const move = (to: number) => {
    const next = fields.filter((other) => other !== field);
    next.splice(to, 0, field);
    set({ ...form, fields: next });
  };
  const takesText = !['yes/no', 'several choices', 'choice', 'hidden'].includes(field.kind);
  return (
    <>
      <Words
        label={field.kind === 'hidden' ? 'Its name' : 'What stands over it'}
        value={field.label}
        change={(label) => change({ label })}
      />
      {field.kind === 'hidden' && <Words label="What it sends" value={field.value} change={(value) => change({ value })} />}
      {takesText && (
        <Words
          label="Shown while it is empty"
          value={field.placeholder}
          change={(placeholder) => change({ placeholder })}
          hint={shapeOf(form.placement.kind) === 'line' ? 'Left empty, the label stands there.' : undefined}
        />
      )}
      {field.kind.includes('choice') && (
        <Words
          long
          label="Choices, one a line"
          value={field.options.join('\n')}
          change={(text) => change({ options: text.split('\n') })}
        />
      )}
      {field.kind !== 'hidden' && <Words label="Help under it" value={field.help} change={(help) => change({ help })} />}
      {takesText && shapeOf(form.placement.kind) === 'block' && (
        <Choice
          label="Width"
          value={field.width}
          change={(width) => change({ width })}
          choices={[
            { value: 'full', label: 'a whole line' },
            { value: 'half', label: 'beside another' },
          ]}
        />
      )}
      {field.kind !== 'email' && field.kind !== 'hidden' && (
        <Tick label="Must be filled in" on={field.required} change={(required) => change({ required })} />
      )}
      <div className="flex flex-wrap gap-2">
        <Button aria-label={`Move ${field.label} up`} disabled={at === 0} onClick={() => move(at - 1)}>
          <ArrowUp size={15} aria-hidden /> Up
        </Button>
        <Button aria-label={`Move ${field.label} down`} disabled={at === fields.length - 1} onClick={() => move(at + 1)}>
          <ArrowDown size={15} aria-hidden /> Down
        </Button>
        {field.kind !== 'email' && (
          <Button
            onClick={() => {
              set({ ...form, fields: fields.filter((other) => other !== field) });
              pick('heading');
            }}
          >
            Take it out
          </Button>
        )}
      </div>
      {field.kind === 'email' && <p className="text-small text-ink-2">The address is always asked for.</p>}
    </>
  );
}

function PictureSettings({
  look,
  dress,
  addPicture,
}: {
  look: Look;
  dress: (change: Partial<Look>) => void;
  addPicture: SettingsProps['addPicture'];
}) {
  const change = (part: Partial<Look['picture']>) => dress({ picture: { ...look.picture, ...part } });
  return (
    <>
      <Words
        label="Its address"
        type="url"
        value={look.picture.url}
        change={(url) => change({ url })}
        placeholder="https://"
        hint="Or a picture of yours:"
      />
      <FileField
        label="A picture from your machine"
        accept="image/*"
        hint="Up to 20 MB; made 1,200 pixels wide at the most."
        keep={addPicture}
        kept={({ url }) => {
          change({ url });
          return 'Kept. Say below what it shows.';
        }}
      />
      <Words label="What it shows" value={look.picture.alt} change={(alt) => change({ alt })} />
      <Choice
        label="It stands"
        value={look.picture.stands}
        change={(stands) => change({ stands })}
        choices={['above', 'beside']}
      />
      <Remove act={() => change({ url: '' })} />
    </>
  );
}

function GroundSettings({ form, look, shown, dress }: Dressing & { form: FormDefinition }) {
  const css = scopedCss(look.css);
  const flat = shapeOf(form.placement.kind) === 'line';
  return (
    <>
      <Choice
        label="Begin with"
        value=""
        change={(name: string) => name && dress({ inherits: true, ink: '', ...LOOKS[name] })}
        choices={[{ value: '', label: 'a look of ours' }, ...Object.keys(LOOKS)]}
      />
      <Tick
        label="As the newsletter"
        hint="Its colour, and every later one."
        on={look.inherits}
        change={(inherits) => dress(inherits ? { inherits } : { inherits, background: shown.background, border: shown.border })}
      />
      {!look.inherits && (
        <>
          <Colour label="Ground" value={look.background} change={(background) => dress({ background })} />
          <Colour label="Border" value={look.border} change={(border) => dress({ border })} />
        </>
      )}
      <Faint look={shown} about={/^Words on/} />
      <div className="grid grid-cols-2 gap-2">
        <Amount label="Border, pixels" value={look.borderWidth} most={8} change={(borderWidth) => dress({ borderWidth })} />
        <Amount label="Round corners" value={look.radius} most={40} change={(radius) => dress({ radius })} />
        <Amount label="Space inside" value={look.padding} most={80} change={(padding) => dress({ padding })} />
        <Amount label="Width, 0 fills" value={look.width} most={1200} change={(width) => dress({ width })} />
      </div>
      <Choice
        label="Its parts stand"
        value={look.align}
        change={(align) => dress({ align })}
        choices={[
          { value: 'start', label: 'at the side' },
          { value: 'centre', label: 'in the middle' },
        ]}
      />
      <Choice label="Type of its words" value={look.font} change={(font) => dress({ font })} choices={FONT_CHOICES} />
      <Tick label="Another ground where it is dark" on={look.dark.on} change={(on) => dress({ dark: { ...look.dark, on } })} />
      {look.dark.on && (
        <>
          <Colour
            label="Ground, dark"
            value={look.dark.background}
            change={(background) => dress({ dark: { ...look.dark, background } })}
          />
          <Ink
            label="Ink, dark"
            asked="as that ground asks"
            value={look.dark.ink}
            shown={shown.dark.ink}
            ratio={contrast(shown.dark.ink, shown.dark.background)}
            change={(ink) => dress({ dark: { ...look.dark, ink } })}
          />
        </>
      )}
      {flat && <p className="text-small text-ink-2">On one line stand the heading, the questions and the button.</p>}
      <Words
        long
        label="Your own CSS"
        value={look.css}
        change={(text) => dress({ css: text })}
        hint={'fault' in css ? css.fault : 'Holds for this form alone; what fetches or covers the page is left out.'}
      />
    </>
  );
}
