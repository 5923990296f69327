/** Where a command was typed: what it may write to, and what it reports. */
export interface Shell {
  /** Prints what was asked for. */
  print(text: string): void
  /** Tells what is beside it, so that what is printed can be piped on. */
  note(text: string): void
  /** Reports that the rules or expectations fall short: exit status 1. */
  fallShort(): void
}
