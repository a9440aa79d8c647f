/** The words that every letter carries whatever it says, in the newsletter's language; English where we have none. */
export type LetterWords = { unsubscribe: string; choose: string; links: string };

const WORDS: Record<string, LetterWords> = {
  en: { unsubscribe: 'Unsubscribe', choose: 'Choose what you get', links: 'Links' },
  de: { unsubscribe: 'Abmelden', choose: 'Auswählen, was Sie bekommen', links: 'Adressen' },
  fr: { unsubscribe: 'Se désabonner', choose: 'Choisir ce que vous recevez', links: 'Liens' },
  es: { unsubscribe: 'Darse de baja', choose: 'Elegir lo que recibes', links: 'Enlaces' },
  it: { unsubscribe: 'Annulla l’iscrizione', choose: 'Scegli che cosa ricevi', links: 'Collegamenti' },
  pt: { unsubscribe: 'Cancelar a subscrição', choose: 'Escolher o que recebe', links: 'Ligações' },
  nl: { unsubscribe: 'Uitschrijven', choose: 'Kiezen wat u krijgt', links: 'Koppelingen' },
  sv: { unsubscribe: 'Avsluta prenumerationen', choose: 'Välj vad du får', links: 'Länkar' },
  da: { unsubscribe: 'Afmeld', choose: 'Vælg hvad du får', links: 'Henvisninger' },
  nb: { unsubscribe: 'Meld deg av', choose: 'Velg hva du får', links: 'Lenker' },
  pl: { unsubscribe: 'Wypisz się', choose: 'Wybierz, co dostajesz', links: 'Odnośniki' },
  ja: { unsubscribe: '配信停止', choose: '受け取るものを選ぶ', links: 'リンク' },
  ar: { unsubscribe: 'إلغاء الاشتراك', choose: 'اختر ما يصلك', links: 'الروابط' },
  he: { unsubscribe: 'הסרה מרשימת התפוצה', choose: 'לבחור מה מגיע אליך', links: 'קישורים' },
};

/** The words of a language (BCP 47); its region does not matter. */
export const letterWords = (language: string): LetterWords => WORDS[language.toLowerCase().split('-')[0] ?? ''] ?? WORDS.en!;
