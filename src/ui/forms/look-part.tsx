'use client';

import type { ActionResult } from '@/core/faults';
import type { FormDefinition } from '@/core/forms/definition';
import { effectiveLook, FONTS, faintPairs, LOOKS, type Look, scopedCss } from '@/core/forms/look';
import { Note } from '../kit/page';
import { Amount, Choice, Colour, Tick, Words } from './controls';
import { FileField } from './file-field';

type Props = {
  definition: FormDefinition;
  set: (part: Partial<FormDefinition>) => void;
  colour: string;
  addPicture: (data: FormData) => Promise<ActionResult<{ url: string }>>;
};

/** How the form looks: inherited from the newsletter, or its own; contrast is watched while colours change. */
export function LookPart({ definition, set, colour, addPicture }: Props) {
  const { look } = definition;
  const change = (part: Partial<Look>) => set({ look: { ...look, ...part } });
  const faint = faintPairs(effectiveLook(look, colour));
  const css = scopedCss(look.css);
  const fonts = Object.keys(FONTS).map((value) => ({ value, label: value === 'page' ? 'as the page has it' : value }));
  return (
    <>
      <Choice
        label="Begin with"
        value=""
        change={(name: string) => name && change({ inherits: true, ...LOOKS[name] })}
        choices={[{ value: '', label: 'a look of ours' }, ...Object.keys(LOOKS)]}
      />
      <Tick
        label="Take the newsletter’s colour"
        hint="Changes with it."
        on={look.inherits}
        change={(inherits) => change({ inherits })}
      />
      {!look.inherits && (
        <div className="grid grid-cols-2 gap-2">
          <Colour label="Background" value={look.background} change={(background) => change({ background })} />
          <Colour label="Words" value={look.ink} change={(ink) => change({ ink })} />
          <Colour label="Border" value={look.border} change={(border) => change({ border })} />
        </div>
      )}
      <div className="grid grid-cols-2 gap-2">
        <Colour label="Button" value={look.buttonColour} change={(buttonColour) => change({ buttonColour })} />
        <Colour label="Words on it" value={look.buttonInk} change={(buttonInk) => change({ buttonInk })} />
        <Amount label="Border, pixels" value={look.borderWidth} most={8} change={(borderWidth) => change({ borderWidth })} />
        <Amount label="Round corners" value={look.radius} most={40} change={(radius) => change({ radius })} />
        <Amount label="Space inside" value={look.padding} most={80} change={(padding) => change({ padding })} />
        <Amount label="Width, 0 fills" value={look.width} most={1200} change={(width) => change({ width })} />
        <Choice label="Letters" value={look.font} change={(font) => change({ font })} choices={fonts} />
        <Choice
          label="Of the heading"
          value={look.headingFont}
          change={(headingFont) => change({ headingFont })}
          choices={fonts}
        />
        <Choice
          label="Words stand"
          value={look.align}
          change={(align) => change({ align })}
          choices={[
            { value: 'start', label: 'at the side' },
            { value: 'centre', label: 'in the middle' },
          ]}
        />
      </div>
      {faint.map((pair) => (
        <Note key={pair.what} tone="look" title={`${pair.what}: ${pair.ratio.toFixed(1)}`}>
          {pair.wanted} is what most eyes need.
        </Note>
      ))}
      <Tick label="Other colours where it is dark" on={look.dark.on} change={(on) => change({ dark: { ...look.dark, on } })} />
      {look.dark.on && (
        <div className="grid grid-cols-2 gap-2">
          <Colour
            label="Background, dark"
            value={look.dark.background}
            change={(background) => change({ dark: { ...look.dark, background } })}
          />
          <Colour label="Words, dark" value={look.dark.ink} change={(ink) => change({ dark: { ...look.dark, ink } })} />
        </div>
      )}
      <Words
        label="Picture"
        type="url"
        value={look.picture.url}
        change={(url) => change({ picture: { ...look.picture, url } })}
        placeholder="https://"
        hint="Its address, or a picture of yours:"
      />
      <FileField
        label="A picture from your machine"
        accept="image/*"
        hint="Up to 5 MB; made 1,200 pixels wide at the most."
        keep={addPicture}
        kept={({ url }) => {
          change({ picture: { ...look.picture, url } });
          return 'Kept. Say below what it shows.';
        }}
      />
      {look.picture.url && (
        <div className="grid grid-cols-2 gap-2">
          <Words label="What it shows" value={look.picture.alt} change={(alt) => change({ picture: { ...look.picture, alt } })} />
          <Choice
            label="It stands"
            value={look.picture.stands}
            change={(stands) => change({ picture: { ...look.picture, stands } })}
            choices={['above', 'beside']}
          />
        </div>
      )}
      <Words
        long
        label="Your own CSS"
        value={look.css}
        change={(text) => change({ css: text })}
        hint={'fault' in css ? css.fault : 'Holds for this form alone; what fetches or covers the page is left out.'}
      />
    </>
  );
}
