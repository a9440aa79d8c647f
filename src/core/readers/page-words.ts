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
  countsBoth: string;
  countsOpens: string;
  countsClicks: string;
  countsNeither: string;
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
  countsBoth: 'Its letters count whether they are opened and which links are followed.',
  countsOpens: 'Its letters count whether they are opened, and not which links are followed.',
  countsClicks: 'Its letters count which links are followed, and not whether they are opened.',
  countsNeither: 'Its letters count neither whether they are opened nor which links are followed.',
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
    countsBoth: 'Diese Briefe zählen, ob sie geöffnet werden und welchen Links man folgt.',
    countsOpens: 'Diese Briefe zählen, ob sie geöffnet werden, aber nicht, welchen Links man folgt.',
    countsClicks: 'Diese Briefe zählen, welchen Links man folgt, aber nicht, ob sie geöffnet werden.',
    countsNeither: 'Diese Briefe zählen weder, ob sie geöffnet werden, noch, welchen Links man folgt.',
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
    countsBoth: 'Ces lettres comptent si on les ouvre et quels liens on suit.',
    countsOpens: 'Ces lettres comptent si on les ouvre, mais pas quels liens on suit.',
    countsClicks: 'Ces lettres comptent quels liens on suit, mais pas si on les ouvre.',
    countsNeither: 'Ces lettres ne comptent ni si on les ouvre ni quels liens on suit.',
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
    countsBoth: 'Estas cartas cuentan si se abren y qué enlaces se siguen.',
    countsOpens: 'Estas cartas cuentan si se abren, pero no qué enlaces se siguen.',
    countsClicks: 'Estas cartas cuentan qué enlaces se siguen, pero no si se abren.',
    countsNeither: 'Estas cartas no cuentan ni si se abren ni qué enlaces se siguen.',
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
    countsBoth: 'Estas cartas contam se são abertas e que ligações são seguidas.',
    countsOpens: 'Estas cartas contam se são abertas, mas não que ligações são seguidas.',
    countsClicks: 'Estas cartas contam que ligações são seguidas, mas não se são abertas.',
    countsNeither: 'Estas cartas não contam se são abertas nem que ligações são seguidas.',
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
    countsBoth: 'Queste lettere contano se vengono aperte e quali link si seguono.',
    countsOpens: 'Queste lettere contano se vengono aperte, ma non quali link si seguono.',
    countsClicks: 'Queste lettere contano quali link si seguono, ma non se vengono aperte.',
    countsNeither: 'Queste lettere non contano né se vengono aperte né quali link si seguono.',
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
    countsBoth: 'Deze brieven tellen of ze worden geopend en welke links worden gevolgd.',
    countsOpens: 'Deze brieven tellen of ze worden geopend, maar niet welke links worden gevolgd.',
    countsClicks: 'Deze brieven tellen welke links worden gevolgd, maar niet of ze worden geopend.',
    countsNeither: 'Deze brieven tellen niet of ze worden geopend en ook niet welke links worden gevolgd.',
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
    countsBoth: 'Breven räknar om de öppnas och vilka länkar som följs.',
    countsOpens: 'Breven räknar om de öppnas, men inte vilka länkar som följs.',
    countsClicks: 'Breven räknar vilka länkar som följs, men inte om de öppnas.',
    countsNeither: 'Breven räknar varken om de öppnas eller vilka länkar som följs.',
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
    countsBoth: 'تُحصي هذه الرسائل ما إذا فُتحت وأي روابط نُقرت.',
    countsOpens: 'تُحصي هذه الرسائل ما إذا فُتحت، لا أي روابط نُقرت.',
    countsClicks: 'تُحصي هذه الرسائل أي روابط نُقرت، لا ما إذا فُتحت.',
    countsNeither: 'لا تُحصي هذه الرسائل ما إذا فُتحت ولا أي روابط نُقرت.',
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
    countsBoth: 'במכתבים נספר אם נפתחו ואילו קישורים נלחצו.',
    countsOpens: 'במכתבים נספר אם נפתחו, אך לא אילו קישורים נלחצו.',
    countsClicks: 'במכתבים נספר אילו קישורים נלחצו, אך לא אם נפתחו.',
    countsNeither: 'במכתבים לא נספר אם נפתחו וגם לא אילו קישורים נלחצו.',
  },
};

/** The pages' words in a language (BCP 47), English where there are none, with what they are about put in and nothing of it taken for a pattern. */
export function pageWords(language: string, label: string): PageWords {
  const words = PAGE_WORDS[language] ?? EN;
  return Object.fromEntries(Object.entries(words).map(([key, text]) => [key, text.replace('LABEL', () => label)])) as PageWords;
}

/** What a newsletter counts of its letters, said to its readers. */
export function countingWords({
  language,
  count_opens,
  count_clicks,
}: {
  language: string;
  count_opens: boolean;
  count_clicks: boolean;
}): string {
  const words = pageWords(language, '');
  if (count_opens) return count_clicks ? words.countsBoth : words.countsOpens;
  return count_clicks ? words.countsClicks : words.countsNeither;
}

/** "a, b and c" in that language. */
export const joined = (names: string[], language: string): string =>
  new Intl.ListFormat(language, { type: 'conjunction' }).format(names);

/** The languages that readers' pages speak. */
export const PAGE_LANGUAGES = Object.keys(PAGE_WORDS);
