/** Joins the names of classes that apply. */
export const cx = (...names: (string | false | null | undefined)[]) => names.filter(Boolean).join(' ')
