import { createHash } from 'node:crypto'
import { EncryptJWT, errors, jwtDecrypt } from 'jose'

/** Hands something to a browser that can neither read nor change it, and reads it when it comes back in time. */
export interface Seal<T extends object> {
  seal(content: T): Promise<string>
  /** Nothing where it was not sealed here, or too long ago. */
  open(sealed: string): Promise<T | undefined>
}

/**
 * @param secret what nobody knows
 * @param seconds how long what was sealed can be opened
 */
export function sealWith<T extends object>(secret: string, seconds: number): Seal<T> {
  const key = createHash('sha256').update(`pachter sign-in ${secret}`).digest()
  return {
    seal: (content) =>
      new EncryptJWT({ content })
        .setProtectedHeader({ alg: 'dir', enc: 'A256GCM' })
        .setExpirationTime(Math.floor(Date.now() / 1000) + seconds)
        .encrypt(key),
    open: async (sealed) => {
      try {
        const { payload } = await jwtDecrypt<{ content: T }>(sealed, key, {
          keyManagementAlgorithms: ['dir'],
          contentEncryptionAlgorithms: ['A256GCM'],
          requiredClaims: ['exp'],
        })
        return payload.content
      } catch (error) {
        if (error instanceof errors.JOSEError) return undefined
        throw error
      }
    },
  }
}
