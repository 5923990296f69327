interface Place {
  readonly location: {
    readonly pathname: string
    readonly search: string
    assign(address: string): void
  }
}

const { location } = globalThis as unknown as Partial<Place>

/** The page that is open; the first, where there is none, as on a server that draws pages. */
export const here = (): string => (location ? `${location.pathname}${location.search}` : '/')

/** Leaves the page that is open for another. */
export const goTo = (address: string): void => location?.assign(address)
