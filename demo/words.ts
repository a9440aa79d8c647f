/** The words of the demo newsletter: invented people, invented letters about real animals of the deep. */
export const TITLES: [title: string, summary: string][] = [
  ['What the hatchetfish saw', 'An animal as thin as a coin, and what looking upwards all day does to an eye.'],
  ['A net full of lamps', 'The first haul of the season came up glowing, and nobody wanted to switch the deck lights on.'],
  ['Snow that feeds a continent', 'It takes a flake three weeks to sink to the floor, and everything down there is waiting.'],
  ['The long supper', 'Fifty years on one whale, in four courses.'],
  ['Learning to hear in the dark', 'A hydrophone, a patient night, and a sound nobody has claimed yet.'],
  ['On being see-through', 'Glass squid hide by having nothing to hide.'],
  ['The jaw that came loose', 'How a dragonfish gets its mouth around a problem larger than itself.'],
  ['Why the anglerfish waits', 'Patience is not a virtue down there; it is a metabolism.'],
  ['Pressure, explained with a cup', 'We sent a foam cup to two thousand metres and got a thimble back.'],
  ['The red that is black', 'Colour is a matter of how far down you ask.'],
  ['Field notes from a borrowed boat', 'Six days, four storms, one winch that would not.'],
  ['A short history of falling', 'Everything at the bottom came from the top, eventually.'],
  ['Ten kinds of blue', 'A light meter on a rope, and names for what it found.'],
  ['The tripod and the tide', 'A fish that stands still for a living.'],
  ['Counting what will not be counted', 'Siphonophores are one animal, or a thousand, depending on your patience.'],
  ['The worm with no mouth', 'It has been eating for two hundred years all the same.'],
  ['Below the last blue', 'There is a depth at which the sun gives up. We went to look.'],
  ['A dumbo octopus, twice', 'The second time it looked back.'],
  ['The smoke that builds', 'Chimneys grow faster than trees, and fall harder.'],
  ['What sinks and what stays', 'On the things we dropped, and who moved in.'],
  ['The cold seep at the edge of the map', 'Mussels, ice that burns, and a very long Tuesday.'],
  ['Letters to a lanternfish', 'On the most numerous vertebrate you have never met.'],
  ['The commute', 'Ten billion tonnes go up at dusk and down at dawn, and have done so since before there were calendars.'],
  ['Somebody lives in the trench', 'A snailfish with the manners of wet tissue.'],
  ['The gulper and its tail light', 'A mouth with a long idea behind it.'],
  ['How to photograph nothing', 'Notes on lighting an animal that is mostly water.'],
  ['A sponge the size of a car', 'It filters a swimming pool before breakfast.'],
  ['The oldest thing in the room', 'A black coral was a sapling when the pyramids were new.'],
  ['Slow light', 'Why most living lamps are the same blue-green.'],
  ['Names for mud', 'Sediment people have forty words, and mean all of them.'],
  ['The map has holes', 'We know the far side better than the deep side.'],
  ['A vampire that eats dust', 'It is neither squid nor octopus, and it minds its own business.'],
  ['The cod-end at four in the morning', 'What comes up when everyone is too tired to be clever.'],
  ['Warm water, coming down', 'A thermometer, twenty years, and a line that is not flat.'],
  ['The ribbon that broke itself', 'An oarfish that does not seem to need its tail.'],
  ['A quiet week at eight hundred metres', 'Nothing happened, in great detail.'],
  ['The listener', 'A man who has sat with headphones since before I was born.'],
  ['Ice on the line', 'A winter station, and what keeps working.'],
  ['What the tide left in the notebook', 'Small things that did not fit anywhere else.'],
  ['Two posts: whale-fall diaries; a dim map', 'Twelve months beside one skeleton, and a chart of the light that is left.'],
];

export const NEXT: [title: string, summary: string] = [
  'The lamp-fish census',
  'How do you count something that only shows itself when it is frightened?',
];

/** The letter that was written with a guest, whose own readers came along. */
export const GUEST = 'Ice on the line';

/** How a letter fared beside the usual: some are shared, some lose people in their second paragraph. */
export const FARED: Record<string, number> = {
  'Why the anglerfish waits': 1.35,
  'Field notes from a borrowed boat': 0.7,
  'A short history of falling': 0.75,
  'Letters to a lanternfish': 1.3,
  'How to photograph nothing': 0.72,
  'Names for mud': 0.6,
  'The map has holes': 1.15,
  [GUEST]: 1.45,
  'What the tide left in the notebook': 0.78,
};

export const PARAGRAPHS = [
  'At six hundred metres the net comes up glowing. For about forty seconds every lanternfish in the cod-end is lit, then they go out, one after another, like windows in a street.',
  'We tried three ways to count them. The first was the honest one: a tray, a torch, and a tally counter held between the teeth.',
  'Nobody on board had slept, which is the right condition for this work. A rested person has opinions about what ought to be there.',
  'The light that reaches this far has been sorted. Red is gone within a few metres, green within a hundred, and what is left is a blue so plain that it hardly counts as a colour.',
  'An animal that lives here has two problems: to be seen, and not to be. Most of the anatomy you will meet in these letters is an answer to one of them that makes the other worse.',
  'The winch takes fifty minutes to bring the frame up. In that time the tea goes cold, somebody tells the story about the boot, and the thing you came for has already decided what shape to arrive in.',
  'It is easy to call them strange. It is fairer to say that there is far more of their world than of ours, and that by any count the strange ones are on deck.',
  'I keep a page in the notebook for sentences that turned out to be wrong. It is the longest page, and the only one I would save from a fire.',
  'What falls is mostly small: scales, shells, the leftovers of other suppers. It drifts down so slowly that a flake which left the surface in spring is eaten in summer.',
  'The skeleton had been there for eleven years when we first saw it. By then the bones were furred with red worms, each with a root and no mouth, drinking the marrow through the wall.',
  'If you hold the lamp to one side the water comes alive with specks. If you hold it straight ahead there is only glare. I have tried to learn something general from this.',
  'Every evening the largest migration on the planet sets off, upwards, in the dark. Every morning it goes home. Nobody has ever seen all of it; it shows on an echo sounder as a second, moving sea floor.',
  'The sound came at ten past three: four notes, falling, and then a pause as if for an answer. The listener wrote down the time and did not say anything until breakfast.',
  'Temperature is the dull instrument. It hangs there for years and says four point one, four point one, four point two. Then one day you lay the years side by side.',
  'There were nineteen of them on the screen and I called out twenty, because one of them was my own reflection. It went into the data and had to be fetched out again.',
  'On the way back the sea was flat and the colour of slate. We sorted the jars by size, then by number, then by which of us felt sorry for the contents.',
];

/** First names from many languages, with how each stands in an address where that differs. */
const FIRST = (
  'Mara Ilse Tomás/tomas Jorun Zoë/zoe Sunniva Łucja/lucja Bettine Søren/soren Odile José/jose Thea Ngozi Liv Amélie/amelie Maud Yuki Signe Priya Wren Inês/ines Lorcan Dmitri Emrys ' +
  'Solveig Aoife Yara Björn/bjorn Orla Tamsin Nguyệt/nguyet Élodie/elodie Kwame Şirin/sirin 美咲/misaki Ахмет/akhmet Noor/noor Ülle/ulle'
)
  .split(' ')
  .map((entry) => {
    const [shown, written] = entry.split('/');
    return { shown: shown!, written: (written ?? shown!).toLowerCase() };
  });
const LAST =
  'Tidewell Ostrand Marlowick Fennimore Kelder Saltmarsh Brackwater Halvane Corvell Dunmere Eskwith Farrowdale Greywake Holmstead Innisbrook Jarrowby Kestle Lindqvale Merrowen Northolme'.split(
    ' ',
  );
const PROVIDERS: [string, number][] = [
  ['heronmail.example', 0.44],
  ['postbird.example', 0.27],
  ['kestrel.example', 0.17],
  ['fjordbox.example', 0.12],
];

/** The n-th invented person; every n gives another address. */
export function personOf(n: number, pick: number): { firstName: string; address: string; provider: string } {
  const { shown: firstName, written } = FIRST[n % FIRST.length]!;
  const last = LAST[Math.floor(n / FIRST.length) % LAST.length]!;
  const round = Math.floor(n / (FIRST.length * LAST.length));
  let rest = pick;
  const provider = (PROVIDERS.find(([, share]) => {
    rest -= share;
    return rest < 0;
  }) ?? PROVIDERS[0]!)[0];
  return { firstName, provider, address: `${written}.${last}${round ? round + 1 : ''}@${provider}`.toLowerCase() };
}
