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
  /** Said of a mailbox that lives for minutes, before `sure`. */
  throwaway: string;
  /** After a hint: who sends the same once more is believed. */
  sure: string;
  tooMany: string;
  /** Under attack, to those whose browser cannot show work; the seconds are those of server/public/proof.ts. */
  busy: string;
  /** Where it looks like a machine's, to those whose browser cannot show work. */
  unsure: string;
  noEmail: string;
  notEmail: string;
  consent: string;
  away: string;
  /** The name of the cross of what comes over a page. */
  close: string;
  problems: Record<AnswerProblem, string>;
  /** Why a mail came: asked for in a form, added by hand, signed up. */
  because: { asked: string; added: string; signedUp: string; onList: string };
  /** `invited`: to somebody who did not ask, but was added by hand. */
  confirmation: { subject: string; heading: string; words: string; invited: string; button: string };
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
  throwaway: 'Letters to throwaway mailboxes are soon lost.',
  sure: 'If it is right as it is, send it again.',
  tooMany: 'This was sent in very often just now. Please try again in a while; nothing was lost.',
  busy: 'Very many people are signing up just now. Please wait 15 seconds and press the button again.',
  unsure: 'We could not tell whether a person sent this. Please wait 15 seconds and press the button again; nothing was lost.',
  close: 'Close',
  noEmail: 'Please type your email address.',
  notEmail: 'This does not look like an email address. One looks like name@example.com.',
  consent: 'Please tick this first.',
  away: 'This did not work on our side, and you are not signed up yet. Please try again in a minute.',
  because: {
    asked:
      'You get this because this address was typed into a sign-up form of NAME. If it was not you, do nothing: no letter will follow.',
    added:
      'You get this because somebody at NAME thinks that you would like to read it. If you would not, do nothing: no letter will follow.',
    signedUp: 'You get this because this address was signed up for NAME by a form.',
    onList: 'You get this because this address is on “LABEL”, a list of NAME.',
  },
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
    invited: 'Would you like to read LABEL? Click below and it comes to you; until then nothing else will come.',
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
    throwaway: 'Briefe an Wegwerf-Postfächer gehen bald verloren.',
    sure: 'Wenn es so stimmt, schicken Sie es noch einmal ab.',
    tooMany: 'Das wurde gerade sehr oft abgeschickt. Bitte versuchen Sie es später noch einmal; nichts ging verloren.',
    busy: 'Gerade melden sich sehr viele an. Bitte warten Sie 15 Sekunden und drücken Sie noch einmal.',
    unsure:
      'Wir konnten nicht erkennen, ob ein Mensch das abgeschickt hat. Bitte warten Sie 15 Sekunden und drücken Sie noch einmal; nichts ging verloren.',
    close: 'Schließen',
    noEmail: 'Bitte geben Sie Ihre E-Mail-Adresse ein.',
    notEmail: 'Das sieht nicht nach einer E-Mail-Adresse aus. Eine sieht so aus: name@example.com.',
    consent: 'Bitte kreuzen Sie dies zuerst an.',
    away: 'Das hat bei uns nicht geklappt, und Sie sind noch nicht angemeldet. Bitte versuchen Sie es in einer Minute noch einmal.',
    because: {
      asked:
        'Sie bekommen dies, weil diese Adresse in ein Anmeldeformular von NAME eingegeben wurde. Waren Sie es nicht, tun Sie nichts: Es folgt kein Brief.',
      added:
        'Sie bekommen dies, weil jemand bei NAME glaubt, dass Sie es gern läsen. Wenn nicht, tun Sie nichts: Es folgt kein Brief.',
      signedUp: 'Sie bekommen dies, weil diese Adresse über ein Formular für NAME angemeldet wurde.',
      onList: 'Sie bekommen dies, weil diese Adresse auf „LABEL“ steht, einer Liste von NAME.',
    },
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
      invited: 'Möchten Sie LABEL lesen? Klicken Sie unten, dann kommt es zu Ihnen; bis dahin kommt nichts weiter.',
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
    throwaway: 'Les lettres envoyées à une boîte jetable se perdent vite.',
    sure: 'Si c’est juste, envoyez à nouveau.',
    tooMany: 'Ceci vient d’être envoyé très souvent. Réessayez un peu plus tard ; rien n’est perdu.',
    busy: 'Beaucoup de monde s’inscrit en ce moment. Attendez 15 secondes et appuyez à nouveau.',
    unsure:
      'Nous n’avons pas pu savoir si une personne a envoyé ceci. Attendez 15 secondes et appuyez à nouveau ; rien n’est perdu.',
    close: 'Fermer',
    noEmail: 'Indiquez votre adresse électronique.',
    notEmail: 'Cela ne ressemble pas à une adresse électronique, comme nom@example.com.',
    consent: 'Cochez d’abord cette case.',
    away: 'Un problème est survenu de notre côté et vous n’êtes pas encore inscrit. Réessayez dans une minute.',
    because: {
      asked:
        'Vous recevez ceci parce que cette adresse a été saisie dans un formulaire de NAME. Si ce n’était pas vous, ne faites rien : aucune lettre ne suivra.',
      added:
        'Vous recevez ceci parce que quelqu’un chez NAME pense que cela vous plairait. Sinon, ne faites rien : aucune lettre ne suivra.',
      signedUp: 'Vous recevez ceci parce que cette adresse a été inscrite à NAME par un formulaire.',
      onList: 'Vous recevez ceci parce que cette adresse est sur « LABEL », une liste de NAME.',
    },
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
      invited: 'Aimeriez-vous lire LABEL ? Cliquez ci-dessous pour le recevoir ; rien d’autre ne viendra avant.',
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
    throwaway: 'Las cartas a buzones de usar y tirar se pierden pronto.',
    sure: 'Si es correcto así, envíelo de nuevo.',
    tooMany: 'Esto se ha enviado muchas veces ahora mismo. Inténtelo más tarde; no se ha perdido nada.',
    busy: 'Mucha gente se está apuntando ahora. Espere 15 segundos y pulse de nuevo.',
    unsure: 'No hemos podido saber si esto lo envió una persona. Espere 15 segundos y pulse de nuevo; no se ha perdido nada.',
    close: 'Cerrar',
    noEmail: 'Escriba su dirección de correo.',
    notEmail: 'Esto no parece una dirección de correo, como nombre@example.com.',
    consent: 'Marque primero esta casilla.',
    away: 'Algo ha fallado por nuestra parte y todavía no está en la lista. Inténtelo de nuevo en un minuto.',
    because: {
      asked:
        'Recibe esto porque esta dirección se escribió en un formulario de NAME. Si no fue usted, no haga nada: no llegará ninguna carta.',
      added: 'Recibe esto porque alguien de NAME cree que le gustaría leerlo. Si no, no haga nada: no llegará ninguna carta.',
      signedUp: 'Recibe esto porque esta dirección se apuntó a NAME con un formulario.',
      onList: 'Recibe esto porque esta dirección está en «LABEL», una lista de NAME.',
    },
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
      invited: '¿Le gustaría leer LABEL? Haga clic abajo y le llegará; hasta entonces no llegará nada más.',
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
    throwaway: 'As cartas para caixas descartáveis perdem-se depressa.',
    sure: 'Se está certo assim, envie de novo.',
    tooMany: 'Isto foi enviado muitas vezes agora mesmo. Tente mais tarde; nada se perdeu.',
    busy: 'Há muita gente a inscrever-se agora. Espere 15 segundos e carregue de novo.',
    unsure: 'Não conseguimos saber se foi uma pessoa a enviar isto. Espere 15 segundos e carregue de novo; nada se perdeu.',
    close: 'Fechar',
    noEmail: 'Escreva o seu endereço.',
    notEmail: 'Isto não parece um endereço, como nome@example.com.',
    consent: 'Assinale primeiro esta caixa.',
    away: 'Algo falhou do nosso lado e ainda não está na lista. Tente de novo dentro de um minuto.',
    because: {
      asked:
        'Recebe isto porque este endereço foi escrito num formulário de NAME. Se não foi você, não faça nada: nenhuma carta se seguirá.',
      added: 'Recebe isto porque alguém de NAME acha que gostaria de ler. Se não, não faça nada: nenhuma carta se seguirá.',
      signedUp: 'Recebe isto porque este endereço foi inscrito em NAME por um formulário.',
      onList: 'Recebe isto porque este endereço está em “LABEL”, uma lista de NAME.',
    },
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
      invited: 'Gostaria de ler LABEL? Clique abaixo para receber; até lá nada mais chega.',
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
    throwaway: 'Le lettere alle caselle usa e getta si perdono presto.',
    sure: 'Se è giusto così, lo mandi di nuovo.',
    tooMany: 'È stato mandato molto spesso proprio ora. Riprovi più tardi; nulla è andato perso.',
    busy: 'In questo momento si iscrivono in moltissimi. Aspetti 15 secondi e prema di nuovo.',
    unsure: 'Non abbiamo capito se a inviare è stata una persona. Aspetti 15 secondi e prema di nuovo; nulla è andato perso.',
    close: 'Chiudi',
    noEmail: 'Scriva il suo indirizzo email.',
    notEmail: 'Non sembra un indirizzo email, come nome@example.com.',
    consent: 'Spunti prima questa casella.',
    away: 'Qualcosa non ha funzionato da parte nostra e non è ancora nella lista. Riprovi fra un minuto.',
    because: {
      asked:
        'Riceve questo perché questo indirizzo è stato scritto in un modulo di NAME. Se non è stato Lei, non faccia nulla: non seguirà alcuna lettera.',
      added:
        'Riceve questo perché qualcuno di NAME pensa che Le piacerebbe leggerlo. Altrimenti non faccia nulla: non seguirà alcuna lettera.',
      signedUp: 'Riceve questo perché questo indirizzo è stato iscritto a NAME con un modulo.',
      onList: 'Riceve questo perché questo indirizzo è in “LABEL”, una lista di NAME.',
    },
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
      invited: 'Le piacerebbe leggere LABEL? Faccia clic qui sotto per riceverlo; fino ad allora non arriverà altro.',
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
    throwaway: 'Brieven aan wegwerpadressen raken snel zoek.',
    sure: 'Klopt het zo, verstuur het dan nog eens.',
    tooMany: 'Dit werd zojuist heel vaak verstuurd. Probeer het later opnieuw; er is niets verloren.',
    busy: 'Er melden zich nu heel veel mensen aan. Wacht 15 seconden en druk nog eens.',
    unsure: 'We konden niet zien of een mens dit verstuurde. Wacht 15 seconden en druk nog eens; er is niets verloren.',
    close: 'Sluiten',
    noEmail: 'Vul uw e-mailadres in.',
    notEmail: 'Dit lijkt geen e-mailadres. Een adres ziet eruit als naam@example.com.',
    consent: 'Vink dit eerst aan.',
    away: 'Er ging bij ons iets mis en u bent nog niet aangemeld. Probeer het over een minuut opnieuw.',
    because: {
      asked:
        'U krijgt dit omdat dit adres is ingevuld in een formulier van NAME. Was u het niet, doe dan niets: er volgt geen brief.',
      added: 'U krijgt dit omdat iemand bij NAME denkt dat u het graag zou lezen. Zo niet, doe dan niets: er volgt geen brief.',
      signedUp: 'U krijgt dit omdat dit adres met een formulier is aangemeld voor NAME.',
      onList: 'U krijgt dit omdat dit adres op “LABEL” staat, een lijst van NAME.',
    },
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
      invited: 'Wilt u LABEL lezen? Klik hieronder en het komt naar u toe; tot dan komt er niets anders.',
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
    throwaway: 'Brev till engångsadresser försvinner snart.',
    sure: 'Stämmer det så, skicka en gång till.',
    tooMany: 'Detta skickades väldigt ofta nyss. Försök igen om en stund; inget har gått förlorat.',
    busy: 'Väldigt många anmäler sig just nu. Vänta 15 sekunder och tryck igen.',
    unsure: 'Vi kunde inte se om en människa skickade detta. Vänta 15 sekunder och tryck igen; inget har gått förlorat.',
    close: 'Stäng',
    noEmail: 'Skriv din e-postadress.',
    notEmail: 'Det ser inte ut som en e-postadress, till exempel namn@example.com.',
    consent: 'Kryssa i detta först.',
    away: 'Något gick fel hos oss och du är inte med på listan än. Försök igen om en minut.',
    because: {
      asked:
        'Du får detta för att adressen skrevs in i ett formulär från NAME. Var det inte du, gör ingenting: inget brev följer.',
      added: 'Du får detta för att någon på NAME tror att du vill läsa det. Om inte, gör ingenting: inget brev följer.',
      signedUp: 'Du får detta för att adressen anmäldes till NAME med ett formulär.',
      onList: 'Du får detta för att adressen står på ”LABEL”, en lista hos NAME.',
    },
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
      invited: 'Vill du läsa LABEL? Klicka nedan så kommer det till dig; till dess kommer inget annat.',
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
    throwaway: 'الرسائل إلى العناوين المؤقتة تضيع سريعا.',
    sure: 'إن كان صحيحا فأرسله مرة أخرى.',
    tooMany: 'أُرسل هذا مرات كثيرة الآن. حاول مرة أخرى لاحقا؛ لم يضع شيء.',
    busy: 'كثيرون يسجلون الآن. انتظر 15 ثانية ثم اضغط الزر مرة أخرى.',
    unsure: 'لم نتمكن من معرفة ما إذا كان المرسل إنسانًا. انتظر 15 ثانية ثم اضغط الزر مرة أخرى؛ لم يضع شيء.',
    close: 'إغلاق',
    noEmail: 'من فضلك اكتب عنوان بريدك.',
    notEmail: 'هذا لا يبدو عنوان بريد، مثل name@example.com.',
    consent: 'من فضلك ضع علامة هنا أولا.',
    away: 'حدث خطأ لدينا ولم تسجل بعد. حاول مرة أخرى بعد دقيقة.',
    because: {
      asked: 'يصلك هذا لأن هذا العنوان كُتب في نموذج اشتراك لـ NAME. إن لم تكن أنت فلا تفعل شيئًا: لن تتبعه رسالة.',
      added: 'يصلك هذا لأن أحدًا في NAME يظن أنك تود قراءته. إن لم يكن كذلك فلا تفعل شيئًا: لن تتبعه رسالة.',
      signedUp: 'يصلك هذا لأن هذا العنوان سُجّل في NAME بواسطة نموذج.',
      onList: 'يصلك هذا لأن هذا العنوان مسجل في «LABEL»، وهي قائمة من NAME.',
    },
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
      invited: 'هل تود قراءة LABEL؟ انقر أدناه ليصلك؛ لن يصلك شيء آخر قبل ذلك.',
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
    throwaway: 'מכתבים לתיבות חד־פעמיות אובדים מהר.',
    sure: 'אם זה נכון כך, שלחו שוב.',
    tooMany: 'זה נשלח פעמים רבות מאוד עכשיו. נסו שוב מאוחר יותר; דבר לא אבד.',
    busy: 'רבים מאוד נרשמים עכשיו. המתינו 15 שניות ולחצו שוב.',
    unsure: 'לא הצלחנו לדעת אם אדם שלח את זה. המתינו 15 שניות ולחצו שוב; שום דבר לא אבד.',
    close: 'סגירה',
    noEmail: 'נא להקליד כתובת דואר.',
    notEmail: 'זו אינה נראית ככתובת דואר, כמו name@example.com.',
    consent: 'נא לסמן זאת תחילה.',
    away: 'משהו השתבש אצלנו ועדיין לא נרשמת. נסה שוב בעוד דקה.',
    because: {
      asked: 'קיבלתם זאת כי הכתובת הזאת הוקלדה בטופס הרשמה של NAME. אם לא אתם, אין צורך לעשות דבר: לא יבוא מכתב.',
      added: 'קיבלתם זאת כי מישהו ב-NAME חושב שתרצו לקרוא. אם לא, אין צורך לעשות דבר: לא יבוא מכתב.',
      signedUp: 'קיבלתם זאת כי הכתובת הזאת נרשמה ל-NAME בטופס.',
      onList: 'קיבלתם זאת כי הכתובת הזאת נמצאת ב„LABEL”, רשימה של NAME.',
    },
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
      invited: 'רוצה לקרוא את LABEL? הקישו למטה והוא יגיע אליכם; עד אז לא יגיע דבר נוסף.',
      button: 'כן, שלחו לי את המכתבים',
    },
  },
};

export const wordsOf = (language: string): FormWords => FORM_WORDS[language] ?? EN;
export const directionOf = (language: string): 'ltr' | 'rtl' => (['ar', 'he'].includes(language) ? 'rtl' : 'ltr');
export const fill = (text: string, of: { name?: string; label?: string }) =>
  text.replace(/NAME|LABEL/g, (place) => (place === 'NAME' ? of.name : of.label) ?? '');
