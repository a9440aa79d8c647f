import { FACES, type Look } from '../writing/look';

/** How a newsletter's own pages look: its letters' faces and colours, in one column that any window can hold; dark as its readers wish. */
export function siteCss(look: Look, accent: string): string {
  const { colours } = look;
  return `:root{color-scheme:light dark;--page:${colours.page};--sheet:${colours.sheet};--ink:${colours.ink};--soft:${colours.soft};--act:${colours.accent || accent};--rule:color-mix(in srgb,var(--ink) 16%,transparent)}
@media(prefers-color-scheme:dark){:root{--page:#14171d;--sheet:#1b1f27;--ink:#ece8dd;--soft:#b3b1a8;--act:#7fc4b6}}
*{box-sizing:border-box}html{background:var(--page)}body{margin:0;color:var(--ink);font:${look.size}px/1.65 ${FACES[look.text]};overflow-wrap:anywhere}
main,body>header,body>footer{max-width:42rem;margin:0 auto;padding:0 20px}body>header{padding-top:28px;display:flex;flex-wrap:wrap;gap:4px 20px;align-items:baseline;justify-content:space-between;border-bottom:3px double var(--rule);padding-bottom:10px}
body>header a{color:inherit;text-decoration:none}body>header .name{font:500 20px/1.3 ${FACES[look.headings]}}body>header nav{font-size:15px;color:var(--soft)}main{padding-top:34px;padding-bottom:30px}
h1,h2,h3{font-family:${FACES[look.headings]};font-weight:500;line-height:1.25;margin:1.6em 0 .5em}h1{font-size:clamp(28px,5.5vw,40px);margin:0 0 .3em}h2{font-size:1.4em}h3{font-size:1.15em}p,ul,ol,pre,table,figure,blockquote,aside{margin:0 0 1em}
a{color:var(--act)}a:focus-visible,button:focus-visible,input:focus-visible{outline:3px solid var(--act);outline-offset:2px}.soft,.byline,time{color:var(--soft);font-size:15px}.subtitle{font-size:1.12em;font-style:italic;color:var(--soft)}
img{max-width:100%;height:auto;border-radius:4px}figure{margin:1.4em 0}figcaption{font-size:15px;color:var(--soft);margin-top:.4em}blockquote{margin-inline:0;padding-inline-start:16px;border-inline-start:3px solid var(--rule);color:var(--soft)}
figure.pull{border-top:2px solid var(--act);border-bottom:1px solid var(--rule);padding:.8em 0;text-align:center}figure.pull blockquote{border:0;padding:0;font-size:1.3em;font-style:italic;color:var(--ink);margin:0}figure.pull p{margin:0}
aside{background:color-mix(in srgb,var(--ink) 6%,var(--page));border-inline-start:3px solid var(--act);padding:1em 1.1em .1em}.columns,.gallery{display:grid;grid-template-columns:repeat(auto-fit,minmax(200px,1fr));gap:16px;margin-bottom:1em}
pre{padding:12px;background:color-mix(in srgb,var(--ink) 6%,var(--page));font-size:14px;line-height:1.45;white-space:pre-wrap}table{border-collapse:collapse;width:100%;font-size:.9em;line-height:1.45}th,td{text-align:start;padding:6px 12px 6px 0;border-bottom:1px solid var(--rule);vertical-align:top}
.scroll{overflow-x:auto}hr{border:0;border-top:1px solid var(--rule);margin:1.8em 0}.button{display:inline-block;background:var(--act);color:var(--page);padding:.6em 1.1em;border-radius:4px;text-decoration:none;font-weight:600;font-size:.9em}.card{border:1px solid var(--rule);padding:0 16px 12px;border-radius:4px}.card img{display:block;margin:0 -16px 12px;max-width:calc(100% + 32px);border-radius:4px 4px 0 0}
.notes{border-top:1px solid var(--rule);padding-top:1em;font-size:.88em;color:var(--soft)}.small{height:12px}.medium{height:28px}.large{height:56px}ul.posts{list-style:none;padding:0}ul.posts li{padding:16px 0;border-bottom:1px solid var(--rule)}ul.posts h2{margin:0 0 2px;font-size:1.25em}ul.posts h2 a{color:inherit;text-decoration:none}ul.posts h2 a:hover{text-decoration:underline}ul.posts p{margin:2px 0}
section.join{margin-top:44px;border-top:1px solid var(--rule);padding-top:24px}body>footer{font-size:14px;color:var(--soft);padding-top:10px;padding-bottom:40px;border-top:1px solid var(--rule)}`;
}
