/** The words that every letter carries whatever it says, in the newsletter's language; English where we have none. */
export type LetterWords = {
  unsubscribe: string;
  choose: string;
  links: string;
  see: string;
  /** What leads to the rest of a post; of posts that a subject does not name, and of how many there are: LABEL is a number. */
  readOn: string;
  andMore: string;
  posts: string;
};

const WORDS: Record<string, LetterWords> = {
  en: {
    unsubscribe: 'Unsubscribe',
    choose: 'Choose what you get',
    links: 'Links',
    see: 'See it in your browser',
    readOn: 'Read on',
    andMore: 'and LABEL more',
    posts: 'LABEL posts',
  },
  de: {
    unsubscribe: 'Abmelden',
    choose: 'Auswählen, was Sie bekommen',
    links: 'Adressen',
    see: 'Im Browser ansehen',
    readOn: 'Weiterlesen',
    andMore: 'und LABEL mehr',
    posts: 'LABEL Beiträge',
  },
  fr: {
    unsubscribe: 'Se désabonner',
    choose: 'Choisir ce que vous recevez',
    links: 'Liens',
    see: 'Voir dans le navigateur',
    readOn: 'Lire la suite',
    andMore: 'et LABEL de plus',
    posts: 'LABEL articles',
  },
  es: {
    unsubscribe: 'Darse de baja',
    choose: 'Elegir lo que recibes',
    links: 'Enlaces',
    see: 'Ver en el navegador',
    readOn: 'Seguir leyendo',
    andMore: 'y LABEL más',
    posts: 'LABEL entradas',
  },
  it: {
    unsubscribe: 'Annulla l’iscrizione',
    choose: 'Scegli che cosa ricevi',
    links: 'Collegamenti',
    see: 'Vedi nel browser',
    readOn: 'Continua a leggere',
    andMore: 'e altri LABEL',
    posts: 'LABEL articoli',
  },
  pt: {
    unsubscribe: 'Cancelar a subscrição',
    choose: 'Escolher o que recebe',
    links: 'Ligações',
    see: 'Ver no navegador',
    readOn: 'Continuar a ler',
    andMore: 'e mais LABEL',
    posts: 'LABEL artigos',
  },
  nl: {
    unsubscribe: 'Uitschrijven',
    choose: 'Kiezen wat u krijgt',
    links: 'Koppelingen',
    see: 'Bekijk in de browser',
    readOn: 'Verder lezen',
    andMore: 'en nog LABEL',
    posts: 'LABEL berichten',
  },
  sv: {
    unsubscribe: 'Avsluta prenumerationen',
    choose: 'Välj vad du får',
    links: 'Länkar',
    see: 'Läs i webbläsaren',
    readOn: 'Läs vidare',
    andMore: 'och LABEL till',
    posts: 'LABEL inlägg',
  },
  da: {
    unsubscribe: 'Afmeld',
    choose: 'Vælg hvad du får',
    links: 'Henvisninger',
    see: 'Læs i browseren',
    readOn: 'Læs videre',
    andMore: 'og LABEL mere',
    posts: 'LABEL indlæg',
  },
  nb: {
    unsubscribe: 'Meld deg av',
    choose: 'Velg hva du får',
    links: 'Lenker',
    see: 'Les i nettleseren',
    readOn: 'Les videre',
    andMore: 'og LABEL til',
    posts: 'LABEL innlegg',
  },
  pl: {
    unsubscribe: 'Wypisz się',
    choose: 'Wybierz, co dostajesz',
    links: 'Odnośniki',
    see: 'Zobacz w przeglądarce',
    readOn: 'Czytaj dalej',
    andMore: 'i LABEL więcej',
    posts: 'Wpisy: LABEL',
  },
  ja: {
    unsubscribe: '配信停止',
    choose: '受け取るものを選ぶ',
    links: 'リンク',
    see: 'ブラウザで見る',
    readOn: '続きを読む',
    andMore: 'ほかLABEL件',
    posts: 'LABEL件の記事',
  },
  ar: {
    unsubscribe: 'إلغاء الاشتراك',
    choose: 'اختر ما يصلك',
    links: 'الروابط',
    see: 'عرض في المتصفح',
    readOn: 'تابع القراءة',
    andMore: 'و LABEL أخرى',
    posts: 'المقالات: LABEL',
  },
  he: {
    unsubscribe: 'הסרה מרשימת התפוצה',
    choose: 'לבחור מה מגיע אליך',
    links: 'קישורים',
    see: 'לצפייה בדפדפן',
    readOn: 'להמשך קריאה',
    andMore: 'ועוד LABEL',
    posts: 'פוסטים: LABEL',
  },
};

/** The words of a language (BCP 47); its region does not matter. */
export const letterWords = (language: string): LetterWords => WORDS[language.toLowerCase().split('-')[0] ?? ''] ?? WORDS.en!;
