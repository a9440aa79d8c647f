import type { AnswerProblem } from './fields';

/** Everything a form says by itself, in one language. `NAME` and `LABEL` are put in. */
export type FormWords = {
  heading: string;
  words: string;
  button: string;
  thanks: string;
  email: string;
  firstName: string;
  lists: string;
  didYouMean: string;
  noEmail: string;
  notEmail: string;
  consent: string;
  away: string;
  problems: Record<AnswerProblem, string>;
  confirmation: { subject: string; heading: string; words: string; button: string };
};

const EN: FormWords = {
  heading: 'NAME, by email',
  words: 'New letters as they are written. Leave whenever you like.',
  button: 'Send me the next one',
  thanks: 'Nearly there. We have sent you a letter with one link in it: click it, and you are on the list.',
  email: 'Email',
  firstName: 'First name',
  lists: 'What would you like?',
  didYouMean: 'Did you mean LABEL?',
  noEmail: 'Please type your email address.',
  notEmail: 'This does not look like an email address. One looks like name@example.com.',
  consent: 'Please tick this first.',
  away: 'This did not work on our side, and you are not signed up yet. Please try again in a minute.',
  problems: {
    missing: 'Please fill in “LABEL”.',
    'too long': 'Please shorten this.',
    'not a number': 'Please type a number.',
    'not a date': 'Please choose a date.',
    'not a choice': 'Please choose one of these.',
  },
  confirmation: {
    subject: 'Please confirm: NAME',
    heading: 'One click, and you are on the list',
    words: 'You asked for LABEL. Click below to say that this address is yours; until then nothing else will come.',
    button: 'Yes, send me the letters',
  },
};

/** Starting texts; each can be changed in the form. Keyed by language tag (BCP 47). */
export const FORM_WORDS: Record<string, FormWords> = {
  en: EN,
  de: {
    heading: 'NAME als Brief',
    words: 'Neue Briefe, sobald sie geschrieben sind. Abbestellen geht jederzeit.',
    button: 'Den nächsten bitte',
    thanks: 'Fast geschafft. Wir haben Ihnen eine Mail mit einem Link geschickt: einmal klicken, und Sie stehen auf der Liste.',
    email: 'E-Mail',
    firstName: 'Vorname',
    lists: 'Was möchten Sie lesen?',
    didYouMean: 'Meinten Sie LABEL?',
    noEmail: 'Bitte geben Sie Ihre E-Mail-Adresse ein.',
    notEmail: 'Das sieht nicht nach einer E-Mail-Adresse aus. Eine sieht so aus: name@example.com.',
    consent: 'Bitte kreuzen Sie dies zuerst an.',
    away: 'Das hat bei uns nicht geklappt, und Sie sind noch nicht angemeldet. Bitte versuchen Sie es in einer Minute noch einmal.',
    problems: {
      missing: 'Bitte füllen Sie „LABEL“ aus.',
      'too long': 'Bitte kürzen Sie das.',
      'not a number': 'Bitte geben Sie eine Zahl ein.',
      'not a date': 'Bitte wählen Sie ein Datum.',
      'not a choice': 'Bitte wählen Sie etwas davon.',
    },
    confirmation: {
      subject: 'Bitte bestätigen: NAME',
      heading: 'Ein Klick, und Sie stehen auf der Liste',
      words: 'Sie möchten LABEL lesen. Bestätigen Sie unten, dass diese Adresse Ihnen gehört; bis dahin kommt nichts weiter.',
      button: 'Ja, schicken Sie mir die Briefe',
    },
  },
  fr: {
    heading: 'NAME, par courriel',
    words: 'Les nouvelles lettres dès leur parution. On peut partir à tout moment.',
    button: 'Recevoir la prochaine',
    thanks: 'C’est presque fait. Nous vous avons envoyé une lettre avec un lien : un clic, et vous êtes sur la liste.',
    email: 'Courriel',
    firstName: 'Prénom',
    lists: 'Que souhaitez-vous lire ?',
    didYouMean: 'Vouliez-vous dire LABEL ?',
    noEmail: 'Indiquez votre adresse électronique.',
    notEmail: 'Cela ne ressemble pas à une adresse électronique, comme nom@example.com.',
    consent: 'Cochez d’abord cette case.',
    away: 'Un problème est survenu de notre côté et vous n’êtes pas encore inscrit. Réessayez dans une minute.',
    problems: {
      missing: 'Remplissez « LABEL ».',
      'too long': 'C’est trop long.',
      'not a number': 'Indiquez un nombre.',
      'not a date': 'Choisissez une date.',
      'not a choice': 'Choisissez parmi ces réponses.',
    },
    confirmation: {
      subject: 'À confirmer : NAME',
      heading: 'Un clic, et vous êtes sur la liste',
      words: 'Vous avez demandé LABEL. Confirmez ci-dessous que cette adresse est la vôtre ; rien d’autre ne viendra avant.',
      button: 'Oui, envoyez-moi les lettres',
    },
  },
  es: {
    heading: 'NAME, por correo',
    words: 'Cada carta nueva en cuanto se publica. Puede darse de baja cuando quiera.',
    button: 'Quiero la próxima',
    thanks: 'Casi está. Le hemos enviado una carta con un enlace: haga clic y estará en la lista.',
    email: 'Correo electrónico',
    firstName: 'Nombre',
    lists: '¿Qué le gustaría leer?',
    didYouMean: '¿Quería decir LABEL?',
    noEmail: 'Escriba su dirección de correo.',
    notEmail: 'Esto no parece una dirección de correo, como nombre@example.com.',
    consent: 'Marque primero esta casilla.',
    away: 'Algo ha fallado por nuestra parte y todavía no está en la lista. Inténtelo de nuevo en un minuto.',
    problems: {
      missing: 'Rellene «LABEL».',
      'too long': 'Es demasiado largo.',
      'not a number': 'Escriba un número.',
      'not a date': 'Elija una fecha.',
      'not a choice': 'Elija una de estas.',
    },
    confirmation: {
      subject: 'Confirme, por favor: NAME',
      heading: 'Un clic y estará en la lista',
      words: 'Ha pedido LABEL. Confirme abajo que esta dirección es suya; hasta entonces no llegará nada más.',
      button: 'Sí, quiero las cartas',
    },
  },
  pt: {
    heading: 'NAME, por correio eletrónico',
    words: 'Cada carta nova assim que sai. Pode sair quando quiser.',
    button: 'Quero a próxima',
    thanks: 'Está quase. Enviámos-lhe uma carta com uma ligação: um clique e está na lista.',
    email: 'Correio eletrónico',
    firstName: 'Nome',
    lists: 'O que gostaria de ler?',
    didYouMean: 'Queria dizer LABEL?',
    noEmail: 'Escreva o seu endereço.',
    notEmail: 'Isto não parece um endereço, como nome@example.com.',
    consent: 'Assinale primeiro esta caixa.',
    away: 'Algo falhou do nosso lado e ainda não está na lista. Tente de novo dentro de um minuto.',
    problems: {
      missing: 'Preencha “LABEL”.',
      'too long': 'É demasiado longo.',
      'not a number': 'Escreva um número.',
      'not a date': 'Escolha uma data.',
      'not a choice': 'Escolha uma destas.',
    },
    confirmation: {
      subject: 'Confirme, por favor: NAME',
      heading: 'Um clique e está na lista',
      words: 'Pediu LABEL. Confirme abaixo que este endereço é seu; até lá nada mais chega.',
      button: 'Sim, quero as cartas',
    },
  },
  it: {
    heading: 'NAME, per posta elettronica',
    words: 'Ogni nuova lettera appena esce. Ci si cancella quando si vuole.',
    button: 'Mandatemi la prossima',
    thanks: 'Ci siamo quasi. Le abbiamo mandato una lettera con un collegamento: un clic ed è nella lista.',
    email: 'Email',
    firstName: 'Nome',
    lists: 'Che cosa vorrebbe leggere?',
    didYouMean: 'Intendeva LABEL?',
    noEmail: 'Scriva il suo indirizzo email.',
    notEmail: 'Non sembra un indirizzo email, come nome@example.com.',
    consent: 'Spunti prima questa casella.',
    away: 'Qualcosa non ha funzionato da parte nostra e non è ancora nella lista. Riprovi fra un minuto.',
    problems: {
      missing: 'Compili “LABEL”.',
      'too long': 'È troppo lungo.',
      'not a number': 'Scriva un numero.',
      'not a date': 'Scelga una data.',
      'not a choice': 'Scelga fra queste.',
    },
    confirmation: {
      subject: 'Confermi, per favore: NAME',
      heading: 'Un clic ed è nella lista',
      words: 'Ha chiesto LABEL. Confermi qui sotto che questo indirizzo è suo; fino ad allora non arriverà altro.',
      button: 'Sì, mandatemi le lettere',
    },
  },
  nl: {
    heading: 'NAME, per e-mail',
    words: 'Nieuwe brieven zodra ze er zijn. Afmelden kan altijd.',
    button: 'Stuur mij de volgende',
    thanks: 'Bijna klaar. We hebben u een brief met één link gestuurd: klik erop en u staat op de lijst.',
    email: 'E-mail',
    firstName: 'Voornaam',
    lists: 'Wat wilt u lezen?',
    didYouMean: 'Bedoelde u LABEL?',
    noEmail: 'Vul uw e-mailadres in.',
    notEmail: 'Dit lijkt geen e-mailadres. Een adres ziet eruit als naam@example.com.',
    consent: 'Vink dit eerst aan.',
    away: 'Er ging bij ons iets mis en u bent nog niet aangemeld. Probeer het over een minuut opnieuw.',
    problems: {
      missing: 'Vul “LABEL” in.',
      'too long': 'Maak dit korter.',
      'not a number': 'Vul een getal in.',
      'not a date': 'Kies een datum.',
      'not a choice': 'Kies een van deze.',
    },
    confirmation: {
      subject: 'Graag bevestigen: NAME',
      heading: 'Eén klik en u staat op de lijst',
      words: 'U vroeg om LABEL. Bevestig hieronder dat dit uw adres is; tot dan komt er niets anders.',
      button: 'Ja, stuur mij de brieven',
    },
  },
  sv: {
    heading: 'NAME, med e-post',
    words: 'Nya brev så snart de är skrivna. Du kan lämna listan när du vill.',
    button: 'Skicka mig nästa',
    thanks: 'Nästan klart. Vi har skickat ett brev med en länk: ett klick och du är med på listan.',
    email: 'E-post',
    firstName: 'Förnamn',
    lists: 'Vad vill du läsa?',
    didYouMean: 'Menade du LABEL?',
    noEmail: 'Skriv din e-postadress.',
    notEmail: 'Det ser inte ut som en e-postadress, till exempel namn@example.com.',
    consent: 'Kryssa i detta först.',
    away: 'Något gick fel hos oss och du är inte med på listan än. Försök igen om en minut.',
    problems: {
      missing: 'Fyll i ”LABEL”.',
      'too long': 'Gör det kortare.',
      'not a number': 'Skriv ett tal.',
      'not a date': 'Välj ett datum.',
      'not a choice': 'Välj någon av dessa.',
    },
    confirmation: {
      subject: 'Bekräfta: NAME',
      heading: 'Ett klick och du är med på listan',
      words: 'Du bad om LABEL. Bekräfta nedan att adressen är din; till dess kommer inget annat.',
      button: 'Ja, skicka breven',
    },
  },
  ar: {
    heading: 'NAME بالبريد',
    words: 'رسائل جديدة فور كتابتها. يمكنك المغادرة متى شئت.',
    button: 'أرسلوا لي الرسالة القادمة',
    thanks: 'أوشكنا. أرسلنا إليك رسالة فيها رابط واحد: انقر عليه وستكون في القائمة.',
    email: 'البريد الإلكتروني',
    firstName: 'الاسم الأول',
    lists: 'ماذا تود أن تقرأ؟',
    didYouMean: 'هل تقصد LABEL؟',
    noEmail: 'من فضلك اكتب عنوان بريدك.',
    notEmail: 'هذا لا يبدو عنوان بريد، مثل name@example.com.',
    consent: 'من فضلك ضع علامة هنا أولا.',
    away: 'حدث خطأ لدينا ولم تسجل بعد. حاول مرة أخرى بعد دقيقة.',
    problems: {
      missing: 'من فضلك املأ «LABEL».',
      'too long': 'هذا أطول من اللازم.',
      'not a number': 'اكتب رقما.',
      'not a date': 'اختر تاريخا.',
      'not a choice': 'اختر واحدا من هذه.',
    },
    confirmation: {
      subject: 'يرجى التأكيد: NAME',
      heading: 'نقرة واحدة وستكون في القائمة',
      words: 'طلبت LABEL. أكد أدناه أن هذا العنوان لك؛ لن يصلك شيء آخر قبل ذلك.',
      button: 'نعم، أرسلوا لي الرسائل',
    },
  },
  he: {
    heading: 'NAME בדואר',
    words: 'מכתבים חדשים ברגע שנכתבו. אפשר לעזוב בכל עת.',
    button: 'שלחו לי את הבא',
    thanks: 'כמעט סיימנו. שלחנו אליך מכתב ובו קישור אחד: לחיצה עליו ואתה ברשימה.',
    email: 'דואר אלקטרוני',
    firstName: 'שם פרטי',
    lists: 'מה תרצה לקרוא?',
    didYouMean: 'התכוונת ל-LABEL?',
    noEmail: 'נא להקליד כתובת דואר.',
    notEmail: 'זו אינה נראית ככתובת דואר, כמו name@example.com.',
    consent: 'נא לסמן זאת תחילה.',
    away: 'משהו השתבש אצלנו ועדיין לא נרשמת. נסה שוב בעוד דקה.',
    problems: {
      missing: 'נא למלא את „LABEL”.',
      'too long': 'נא לקצר.',
      'not a number': 'נא להקליד מספר.',
      'not a date': 'נא לבחור תאריך.',
      'not a choice': 'נא לבחור אחת מאלה.',
    },
    confirmation: {
      subject: 'נא לאשר: NAME',
      heading: 'לחיצה אחת ואתה ברשימה',
      words: 'ביקשת LABEL. אשר למטה שהכתובת שלך; עד אז לא יגיע דבר נוסף.',
      button: 'כן, שלחו לי את המכתבים',
    },
  },
};

export const wordsOf = (language: string): FormWords => FORM_WORDS[language] ?? EN;
export const directionOf = (language: string): 'ltr' | 'rtl' => (['ar', 'he'].includes(language) ? 'rtl' : 'ltr');
export const fill = (text: string, of: { name?: string; label?: string }) =>
  text.replace(/NAME|LABEL/g, (place) => (place === 'NAME' ? of.name : of.label) ?? '');
