// typing tells whether keys go into a field.
export function typing(el) {
  return el instanceof HTMLElement && (el.isContentEditable || (/^(INPUT|TEXTAREA|SELECT)$/.test(el.tagName) && !/^(checkbox|radio|button|submit|color)$/.test(el.type)));
}
