/** RFC 5322 section 2.1.1 wants lines of at most 78 characters; a mark of quotation or two still fits. */
export const WIDTH = 74;

/** Breaks text into lines of at most so many characters, at spaces; a word that is longer stands whole on a line of its own. */
export function wrapText(text: string, width = WIDTH): string {
  return text
    .split('\n')
    .map((line) => {
      const out: string[] = [];
      let current = '';
      for (const word of line.split(' ')) {
        if (current && [...`${current} ${word}`].length > width) {
          out.push(current);
          current = word;
        } else current = current || out.length ? `${current}${current ? ' ' : ''}${word}` : word;
      }
      out.push(current);
      return out.join('\n');
    })
    .join('\n');
}
