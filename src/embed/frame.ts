/*
 * Gives frames with Inkset forms the height that their content has. A message counts only if it comes from the very frame it speaks of.
 */
addEventListener('message', (event) => {
  const said = event.data as { inkset?: unknown; height?: unknown } | null;
  if (typeof said?.inkset !== 'string' || typeof said.height !== 'number') return;
  for (const frame of document.querySelectorAll<HTMLIFrameElement>('iframe[src*="/e/form/"]')) {
    if (frame.contentWindow === event.source) frame.style.height = `${Math.min(4000, Math.max(60, said.height))}px`;
  }
});

export {};
