import { Ajv2020, type ValidateFunction } from 'ajv/dist/2020.js'
import { describe } from 'pachter/http'
import type { Rulebook } from 'pachter/rules'

/** A part of a description, as a pointer names it. */
const named = (part: string | number): string =>
  encodeURIComponent(String(part).replaceAll('~', '~0').replaceAll('/', '~1'))

/** Holds what is sent and answered to the description of what is served below `/api`. */
export function describedBy(rulebook: Rulebook) {
  const document = describe({ rulebook, base: '/api', title: 'Tested' }) as { readonly paths: Record<string, object> }
  const ajv = new Ajv2020({ strict: false, validateFormats: false }).addSchema(document, 'served')
  const problems = (content: string, ...pointer: readonly (string | number)[]): readonly string[] => {
    const fits = ajv.getSchema(`served#/${pointer.map(named).join('/')}`) as ValidateFunction | undefined
    if (!fits) return [`${pointer.join(' ')} is not described: ${content}`]
    return fits(JSON.parse(content)) ? [] : [`${pointer.join(' ')}: ${ajv.errorsText(fits.errors)}: ${content}`]
  }
  const pathOf = (url: string): string => {
    const [path = ''] = url.replace('http://localhost', '').split('?')
    const template = (each: string) => new RegExp(`^${each.replaceAll('$', '[$]').replaceAll('{key}', '[^/$]+')}$`)
    return Object.keys(document.paths).find((each) => template(each).test(path)) ?? path
  }
  return {
    /** What of an answer is not as it is described. */
    async answer({ method, url }: Request, response: Response): Promise<readonly string[]> {
      const text = await response.clone().text()
      const type = response.headers.get('content-type') ?? ''
      if (text === '' || type.startsWith('text/html')) return []
      if (!response.ok) return problems(text, 'components', 'responses', 'problem', 'content', type, 'schema')
      return problems(
        text,
        ...['paths', pathOf(url), method.toLowerCase()],
        ...['responses', response.status, 'content', type, 'schema'],
      )
    },
    /** What of a body that was accepted is not as it is described. */
    sent: ({ method, url }: Request, type: string, body: string): readonly string[] =>
      problems(body, 'paths', pathOf(url), method.toLowerCase(), 'requestBody', 'content', type, 'schema'),
  }
}
