/** What was said or done about a request, after the name of whoever did. */
export const EVENTS: Record<string, string> = {
  asked: "asked for it",
  said: "wrote",
  inside: "noted",
  "asked back": "asked",
  answered: "answered",
  agreed: "agreed",
  "handed over": "handed it over",
  "passed to outside": "passed it to the ticket desk",
  ticket: "has it as a ticket",
  reminded: "reminded the ticket desk",
  granted: "granted it",
  declined: "declined it",
  undone: "undid the decision",
  "taken back": "took it back",
};
