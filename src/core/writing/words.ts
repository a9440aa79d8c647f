/** The words that every letter carries whatever it says, in the newsletter's language; English where we have none. */
export type LetterWords = { unsubscribe: string; links: string };

const WORDS: Record<string, LetterWords> = {
  en: { unsubscribe: 'Unsubscribe', links: 'Links' },
  de: { unsubscribe: 'Abmelden', links: 'Adressen' },
  fr: { unsubscribe: 'Se désabonner', links: 'Liens' },
  es: { unsubscribe: 'Darse de baja', links: 'Enlaces' },
  it: { unsubscribe: 'Annulla l’iscrizione', links: 'Collegamenti' },
  pt: { unsubscribe: 'Cancelar a subscrição', links: 'Ligações' },
  nl: { unsubscribe: 'Uitschrijven', links: 'Koppelingen' },
  sv: { unsubscribe: 'Avsluta prenumerationen', links: 'Länkar' },
  da: { unsubscribe: 'Afmeld', links: 'Henvisninger' },
  nb: { unsubscribe: 'Meld deg av', links: 'Lenker' },
  pl: { unsubscribe: 'Wypisz się', links: 'Odnośniki' },
  ja: { unsubscribe: '配信停止', links: 'リンク' },
  ar: { unsubscribe: 'إلغاء الاشتراك', links: 'الروابط' },
  he: { unsubscribe: 'הסרה מרשימת התפוצה', links: 'קישורים' },
};

/** The words of a language (BCP 47); its region does not matter. */
export const letterWords = (language: string): LetterWords => WORDS[language.toLowerCase().split('-')[0] ?? ''] ?? WORDS.en!;
