/*
 * Puts a form in place of the script tag that loaded it. It stands in a shadow root, so the page's styles do not reach in and
 * ours do not leak out. Sends in place; where anything goes wrong the form is sent the plain way, which always works.
 */
type Data = { id: string; action: string; css: string; html: string; thanks: string };

// Replaced by the server with the form as it is now.
declare const __FORM__: Data;

function put(data: Data, script: Element): void {
  const host = document.createElement('div');
  host.setAttribute('data-inkset-form', data.id);
  const root = host.attachShadow({ mode: 'open' });
  const show = (html: string) => {
    root.innerHTML = `<style>${data.css}</style>${html}`;
  };
  show(data.html);
  script.parentNode?.insertBefore(host, script);
  const form = root.querySelector('form');
  if (!form) return;
  const value = (name: string, text: string) => {
    const input = form.elements.namedItem(name);
    if (input instanceof HTMLInputElement) input.value = text;
  };
  value('page', location.href);
  value('referrer', document.referrer);

  const fault = (name: string, sentence: string) => {
    const input = form.elements.namedItem(name);
    const place = input instanceof HTMLInputElement ? input : form.querySelector('button');
    const note = document.createElement('span');
    note.className = 'ink-fault';
    note.setAttribute('role', 'alert');
    note.textContent = sentence;
    place?.insertAdjacentElement('afterend', note);
    if (input instanceof HTMLInputElement) {
      input.setAttribute('aria-invalid', 'true');
      input.focus();
    }
  };

  form.addEventListener('submit', (event) => {
    event.preventDefault();
    const button = form.querySelector('button');
    if (button?.disabled) return;
    if (button) button.disabled = true;
    for (const note of root.querySelectorAll('.ink-fault')) note.remove();
    fetch(data.action, {
      method: 'POST',
      headers: { accept: 'application/json' },
      body: new URLSearchParams([...new FormData(form)].map(([name, text]) => [name, String(text)])),
    })
      .then((response) => response.json())
      .then((answer: { ok: boolean; error?: { sentence: string; fields?: Record<string, string> } }) => {
        if (answer.ok) {
          show(data.thanks);
          (root.querySelector('[role=status]') as HTMLElement | null)?.focus();
          return;
        }
        const fields = Object.entries(answer.error?.fields ?? {});
        for (const [name, sentence] of fields) fault(name, sentence);
        if (fields.length === 0) fault('', answer.error?.sentence ?? 'This did not work. Please try again in a minute.');
      })
      .catch(() => fault('', 'We could not be reached, and you are not signed up yet. Please try again in a minute.'))
      .finally(() => {
        if (button) button.disabled = false;
      });
  });
}

const script = document.currentScript;
if (script) put(__FORM__, script);
