import { IdentityConfigError } from './errors.js'

/** Checks a span of seconds that is configured. */
export function assertSeconds(name: string, seconds: number, least: number, most: number): number {
  if (Number.isFinite(seconds) && seconds >= least && seconds <= most) return seconds
  throw new IdentityConfigError(`${name} is ${seconds}; it must be from ${least} to ${most} seconds.`)
}

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
