import { IdentityConfigError } from './errors.js'

/** Checks an amount that is configured. */
export function assertAmount(name: string, amount: number, least: number, most: number, unit = 'seconds'): void {
  if (Number.isFinite(amount) && amount >= least && amount <= most) return
  throw new IdentityConfigError(`${name} is ${amount}; it must be from ${least} to ${most} ${unit}.`)
}

/** What went wrong, as a part of a sentence. */
export const reasonOf = (cause: unknown): string =>
  cause instanceof Error ? cause.message.replace(/[.]$/, '') : String(cause)

/** Checks an address that is configured: encrypted, but on this machine. */
export function assertAddress(name: string, address: string): URL {
  if (!address || !URL.canParse(address)) {
    throw new IdentityConfigError(
      `${name} is ${address ? `'${address}'` : 'missing'}; it must be an address, such as 'https://id.korenveld.example'.`,
    )
  }
  const url = new URL(address)
  if (url.protocol === 'https:' || (url.protocol === 'http:' && isLocal(url))) return url
  throw new IdentityConfigError(
    `${name} is '${address}'; it must begin with https://, since what goes there is secret.`,
  )
}

/** Whether an address is one of this machine, to which nothing goes over a network. */
export const isLocal = ({ hostname }: URL): boolean => ['localhost', '127.0.0.1', '[::1]'].includes(hostname)
