const COOKIE = 'look-as'

/** As whom the secretary looks at the pages, by the number of the member; nothing where as themselves. */
export const lookingAs = (): string | undefined => new RegExp(`(?:^|; )${COOKIE}=([^;]+)`).exec(document.cookie)?.[1]

/** Looks as another, as a visitor, or as oneself again. */
export function lookAs(member: number | 'visitor' | undefined): void {
  document.cookie = `${COOKIE}=${member ?? ''}; path=/; samesite=strict${member === undefined ? '; max-age=0' : ''}`
  location.assign('/')
}
