/** Whether a key goes into what is being typed. */
export const typing = ({ target }: KeyboardEvent) =>
  target instanceof HTMLInputElement ||
  target instanceof HTMLTextAreaElement ||
  (target instanceof HTMLElement && target.isContentEditable)
