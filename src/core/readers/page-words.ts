/** What the pages of a newsletter say to its readers, in one language. `LABEL` is what it is about: lists, or the newsletter. */
export type PageWords = {
  onList: string;
  thanks: string;
  oneClick: string;
  also: string;
  everything: string;
  left: string;
  noMore: string;
  still: string;
  slip: string;
  takeBack: string;
  signUpAgain: string;
  back: string;
  comesAgain: string;
};

const EN: PageWords = {
  onList: 'You are on the list',
  thanks: 'Thank you. The next letter of LABEL comes to you. Every letter ends with a link to unsubscribe.',
  oneClick: 'One click, and no more letters of LABEL come. You need not say why.',
  also: 'You also get LABEL, which would go on.',
  everything: 'everything',
  left: 'You have unsubscribed',
  noMore: 'No more letters of LABEL will come.',
  still: 'You still get LABEL.',
  slip: 'A slip? For a day you can take it back here.',
  takeBack: 'Take it back',
  signUpAgain: 'If you ever want to come back, sign up again.',
  back: 'You are back on the list',
  comesAgain: 'The next letter of LABEL comes to you again. Every letter ends with a link to unsubscribe.',
};

const PAGE_WORDS: Record<string, PageWords> = {
  en: EN,
  de: {
    onList: 'Sie stehen auf der Liste',
    thanks: 'Danke. Der nächste Brief von LABEL kommt zu Ihnen. Am Ende jedes Briefs steht ein Link zum Abbestellen.',
    oneClick: 'Ein Klick, und es kommen keine Briefe von LABEL mehr. Sie brauchen nicht zu sagen, warum.',
    also: 'Sie bekommen auch LABEL; das ginge weiter.',
    everything: 'alles',
    left: 'Sie haben abbestellt',
    noMore: 'Es kommen keine Briefe von LABEL mehr.',
    still: 'Sie bekommen weiterhin LABEL.',
    slip: 'Ein Versehen? Einen Tag lang können Sie es hier zurücknehmen.',
    takeBack: 'Zurücknehmen',
    signUpAgain: 'Wenn Sie einmal wiederkommen möchten, melden Sie sich neu an.',
    back: 'Sie stehen wieder auf der Liste',
    comesAgain: 'Der nächste Brief von LABEL kommt wieder zu Ihnen. Am Ende jedes Briefs steht ein Link zum Abbestellen.',
  },
  fr: {
    onList: 'Vous êtes sur la liste',
    thanks: 'Merci. La prochaine lettre de LABEL vous parviendra. Chaque lettre se termine par un lien pour se désabonner.',
    oneClick: 'Un clic, et plus aucune lettre de LABEL ne viendra. Inutile de dire pourquoi.',
    also: 'Vous recevez aussi LABEL, qui continuerait.',
    everything: 'tout',
    left: 'Vous êtes désabonné',
    noMore: 'Plus aucune lettre de LABEL ne viendra.',
    still: 'Vous recevez encore LABEL.',
    slip: 'Une erreur ? Pendant un jour, vous pouvez revenir ici sur ce choix.',
    takeBack: 'Revenir sur ce choix',
    signUpAgain: 'Pour revenir un jour, inscrivez-vous à nouveau.',
    back: 'Vous êtes de nouveau sur la liste',
    comesAgain:
      'La prochaine lettre de LABEL vous parviendra de nouveau. Chaque lettre se termine par un lien pour se désabonner.',
  },
  es: {
    onList: 'Está en la lista',
    thanks: 'Gracias. La próxima carta de LABEL le llegará. Cada carta termina con un enlace para darse de baja.',
    oneClick: 'Un clic, y no llegarán más cartas de LABEL. No hace falta decir por qué.',
    also: 'También recibe LABEL, que seguiría.',
    everything: 'todo',
    left: 'Se ha dado de baja',
    noMore: 'No llegarán más cartas de LABEL.',
    still: 'Sigue recibiendo LABEL.',
    slip: '¿Un descuido? Durante un día puede deshacerlo aquí.',
    takeBack: 'Deshacerlo',
    signUpAgain: 'Si algún día quiere volver, apúntese de nuevo.',
    back: 'Vuelve a estar en la lista',
    comesAgain: 'La próxima carta de LABEL le llegará de nuevo. Cada carta termina con un enlace para darse de baja.',
  },
  pt: {
    onList: 'Está na lista',
    thanks: 'Obrigado. A próxima carta de LABEL chegará até si. Cada carta termina com uma ligação para cancelar a subscrição.',
    oneClick: 'Um clique, e não virão mais cartas de LABEL. Não precisa de dizer porquê.',
    also: 'Também recebe LABEL, que continuaria.',
    everything: 'tudo',
    left: 'Cancelou a subscrição',
    noMore: 'Não virão mais cartas de LABEL.',
    still: 'Continua a receber LABEL.',
    slip: 'Foi engano? Durante um dia pode voltar atrás aqui.',
    takeBack: 'Voltar atrás',
    signUpAgain: 'Se um dia quiser voltar, inscreva-se de novo.',
    back: 'Está de novo na lista',
    comesAgain: 'A próxima carta de LABEL chegará de novo até si. Cada carta termina com uma ligação para cancelar a subscrição.',
  },
  it: {
    onList: 'È nella lista',
    thanks: 'Grazie. La prossima lettera di LABEL arriverà da Lei. Ogni lettera finisce con un link per annullare l’iscrizione.',
    oneClick: 'Un clic, e non arriveranno più lettere di LABEL. Non serve dire perché.',
    also: 'Riceve anche LABEL, che continuerebbe.',
    everything: 'tutto',
    left: 'Ha annullato l’iscrizione',
    noMore: 'Non arriveranno più lettere di LABEL.',
    still: 'Riceve ancora LABEL.',
    slip: 'Una svista? Per un giorno può tornare indietro qui.',
    takeBack: 'Torna indietro',
    signUpAgain: 'Se un giorno vorrà tornare, si iscriva di nuovo.',
    back: 'È di nuovo nella lista',
    comesAgain:
      'La prossima lettera di LABEL arriverà di nuovo da Lei. Ogni lettera finisce con un link per annullare l’iscrizione.',
  },
  nl: {
    onList: 'U staat op de lijst',
    thanks: 'Dank u. De volgende brief van LABEL komt naar u toe. Elke brief eindigt met een link om u af te melden.',
    oneClick: 'Eén klik, en er komen geen brieven van LABEL meer. U hoeft niet te zeggen waarom.',
    also: 'U krijgt ook LABEL; dat zou doorgaan.',
    everything: 'alles',
    left: 'U bent afgemeld',
    noMore: 'Er komen geen brieven van LABEL meer.',
    still: 'U krijgt nog steeds LABEL.',
    slip: 'Een vergissing? Een dag lang kunt u dit hier terugdraaien.',
    takeBack: 'Terugdraaien',
    signUpAgain: 'Wilt u ooit terugkomen, meld u dan opnieuw aan.',
    back: 'U staat weer op de lijst',
    comesAgain: 'De volgende brief van LABEL komt weer naar u toe. Elke brief eindigt met een link om u af te melden.',
  },
  sv: {
    onList: 'Du står på listan',
    thanks: 'Tack. Nästa brev från LABEL kommer till dig. Varje brev slutar med en länk för att avsluta prenumerationen.',
    oneClick: 'Ett klick, och det kommer inga fler brev från LABEL. Du behöver inte säga varför.',
    also: 'Du får också LABEL, som skulle fortsätta.',
    everything: 'allt',
    left: 'Du har avslutat prenumerationen',
    noMore: 'Det kommer inga fler brev från LABEL.',
    still: 'Du får fortfarande LABEL.',
    slip: 'Ett misstag? I ett dygn kan du ångra det här.',
    takeBack: 'Ångra',
    signUpAgain: 'Om du vill komma tillbaka någon gång, anmäl dig igen.',
    back: 'Du står på listan igen',
    comesAgain: 'Nästa brev från LABEL kommer till dig igen. Varje brev slutar med en länk för att avsluta prenumerationen.',
  },
  ar: {
    onList: 'أنت على القائمة',
    thanks: 'شكرًا. ستصلك الرسالة التالية من LABEL. تنتهي كل رسالة برابط لإلغاء الاشتراك.',
    oneClick: 'نقرة واحدة ولن تصلك رسائل من LABEL بعد ذلك. لا حاجة إلى ذكر السبب.',
    also: 'تصلك أيضًا LABEL، وستستمر.',
    everything: 'كل شيء',
    left: 'تم إلغاء اشتراكك',
    noMore: 'لن تصلك رسائل من LABEL بعد الآن.',
    still: 'ما زالت تصلك LABEL.',
    slip: 'هل كان خطأ؟ يمكنك التراجع هنا خلال يوم واحد.',
    takeBack: 'تراجع',
    signUpAgain: 'إذا أردت العودة يومًا فسجّل من جديد.',
    back: 'عدت إلى القائمة',
    comesAgain: 'ستصلك الرسالة التالية من LABEL من جديد. تنتهي كل رسالة برابط لإلغاء الاشتراك.',
  },
  he: {
    onList: 'אתם ברשימה',
    thanks: 'תודה. המכתב הבא של LABEL יגיע אליכם. כל מכתב מסתיים בקישור להסרה.',
    oneClick: 'לחיצה אחת, ולא יגיעו עוד מכתבים של LABEL. אין צורך לומר למה.',
    also: 'אתם מקבלים גם את LABEL, שימשיך להגיע.',
    everything: 'הכול',
    left: 'הוסרתם מהרשימה',
    noMore: 'לא יגיעו עוד מכתבים של LABEL.',
    still: 'אתם עדיין מקבלים את LABEL.',
    slip: 'טעות? במשך יום אפשר לבטל זאת כאן.',
    takeBack: 'לבטל',
    signUpAgain: 'אם תרצו לחזור ביום מן הימים, הירשמו שוב.',
    back: 'חזרתם לרשימה',
    comesAgain: 'המכתב הבא של LABEL יגיע אליכם שוב. כל מכתב מסתיים בקישור להסרה.',
  },
};

/** The pages' words in a language (BCP 47), English where there are none, with what they are about put in and nothing of it taken for a pattern. */
export function pageWords(language: string, label: string): PageWords {
  const words = PAGE_WORDS[language] ?? EN;
  return Object.fromEntries(Object.entries(words).map(([key, text]) => [key, text.replace('LABEL', () => label)])) as PageWords;
}

/** "a, b and c" in that language. */
export const joined = (names: string[], language: string): string =>
  new Intl.ListFormat(language, { type: 'conjunction' }).format(names);

/** The languages that readers' pages speak. */
export const PAGE_LANGUAGES = Object.keys(PAGE_WORDS);
