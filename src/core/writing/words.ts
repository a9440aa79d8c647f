/** The words that every letter carries whatever it says, in the newsletter's language; English where we have none. */
export type LetterWords = { unsubscribe: string; choose: string; links: string; see: string };

const WORDS: Record<string, LetterWords> = {
  en: { unsubscribe: 'Unsubscribe', choose: 'Choose what you get', links: 'Links', see: 'See it in your browser' },
  de: { unsubscribe: 'Abmelden', choose: 'Auswählen, was Sie bekommen', links: 'Adressen', see: 'Im Browser ansehen' },
  fr: { unsubscribe: 'Se désabonner', choose: 'Choisir ce que vous recevez', links: 'Liens', see: 'Voir dans le navigateur' },
  es: { unsubscribe: 'Darse de baja', choose: 'Elegir lo que recibes', links: 'Enlaces', see: 'Ver en el navegador' },
  it: { unsubscribe: 'Annulla l’iscrizione', choose: 'Scegli che cosa ricevi', links: 'Collegamenti', see: 'Vedi nel browser' },
  pt: { unsubscribe: 'Cancelar a subscrição', choose: 'Escolher o que recebe', links: 'Ligações', see: 'Ver no navegador' },
  nl: { unsubscribe: 'Uitschrijven', choose: 'Kiezen wat u krijgt', links: 'Koppelingen', see: 'Bekijk in de browser' },
  sv: { unsubscribe: 'Avsluta prenumerationen', choose: 'Välj vad du får', links: 'Länkar', see: 'Läs i webbläsaren' },
  da: { unsubscribe: 'Afmeld', choose: 'Vælg hvad du får', links: 'Henvisninger', see: 'Læs i browseren' },
  nb: { unsubscribe: 'Meld deg av', choose: 'Velg hva du får', links: 'Lenker', see: 'Les i nettleseren' },
  pl: { unsubscribe: 'Wypisz się', choose: 'Wybierz, co dostajesz', links: 'Odnośniki', see: 'Zobacz w przeglądarce' },
  ja: { unsubscribe: '配信停止', choose: '受け取るものを選ぶ', links: 'リンク', see: 'ブラウザで見る' },
  ar: { unsubscribe: 'إلغاء الاشتراك', choose: 'اختر ما يصلك', links: 'الروابط', see: 'عرض في المتصفح' },
  he: { unsubscribe: 'הסרה מרשימת התפוצה', choose: 'לבחור מה מגיע אליך', links: 'קישורים', see: 'לצפייה בדפדפן' },
};

/** The words of a language (BCP 47); its region does not matter. */
export const letterWords = (language: string): LetterWords => WORDS[language.toLowerCase().split('-')[0] ?? ''] ?? WORDS.en!;
