'use client';

import { useEffect, useState } from 'react';

export type Asked<T> = { answer: T | null; fault: string | null; busy: boolean };

/** Asks the server about something that changes while one works, a moment (`pauseMs`) after each change; only the last answer counts. */
export function useAsked<T>(address: string, said: string, pauseMs = 250): Asked<T> {
  const [state, setState] = useState<Asked<T> & { of: string }>({ answer: null, fault: null, busy: true, of: '' });
  useEffect(() => {
    const stop = new AbortController();
    setState((old) => ({ ...old, busy: true }));
    const timer = setTimeout(() => {
      fetch(address, { method: 'POST', headers: { 'content-type': 'application/json' }, body: said, signal: stop.signal })
        .then(async (response) => {
          const value = await response.json();
          setState({
            of: said,
            busy: false,
            answer: response.ok ? value : null,
            fault: response.ok ? null : String(value?.sentence ?? 'The server did not answer.'),
          });
        })
        .catch(() => {
          if (!stop.signal.aborted)
            setState({ of: said, busy: false, answer: null, fault: 'The server cannot be reached just now.' });
        });
    }, pauseMs);
    return () => {
      clearTimeout(timer);
      stop.abort();
    };
  }, [address, said, pauseMs]);
  return state.of === said ? state : { ...state, busy: true };
}
