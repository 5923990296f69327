import { type Command, Option } from 'commander'
import type { Shell } from './shell.js'

const SHELLS = ['bash', 'zsh', 'fish'] as const

/** `pachter completion` */
export function addCompletion(program: Command, shell: Shell): void {
  program
    .command('completion')
    .description('a script that has a shell complete commands and options: eval "$(pachter completion)"')
    .addOption(new Option('--shell <shell>', 'which').choices(SHELLS).default('bash'))
    .action(({ shell: of }: { readonly shell: (typeof SHELLS)[number] }) => {
      const words = wordsOf(program)
      shell.print(of === 'fish' ? fish(words) : bash(words, of === 'zsh'))
    })
}

/** What can follow each command: its own commands, or its options. */
type Words = readonly (readonly [command: string, words: readonly string[]])[]

function wordsOf(command: Command, path = ''): Words {
  const own = command.commands.map((each) => each.name())
  const options = command.options.flatMap(({ long }) => long ?? [])
  const inside = command.commands.flatMap((each) => wordsOf(each, `${path} ${each.name()}`.trim()))
  return [[path, [...own, ...options, '--help']], ...inside]
}

function bash(words: Words, zsh: boolean): string {
  const cases = words.map(([path, all]) => `    '${path}') words='${all.join(' ')}' ;;`)
  return [
    ...(zsh ? ['autoload -U +X bashcompinit && bashcompinit'] : []),
    '_pachter() {',
    '  local at path= words=',
    '  for ((at = 1; at < COMP_CWORD; at += 1)); do',
    '    case "${COMP_WORDS[at]}" in -*) break ;; esac',
    '    case " $_pachter_commands " in *" ${path:+$path/}${COMP_WORDS[at]} "*) path="${path:+$path/}${COMP_WORDS[at]}" ;; *) break ;; esac',
    '  done',
    '  case "${path//// }" in',
    ...cases,
    '  esac',
    '  COMPREPLY=($(compgen -W "$words" -- "${COMP_WORDS[COMP_CWORD]}"))',
    '}',
    `_pachter_commands='${words.map(([path]) => path.replaceAll(' ', '/')).join(' ')}'`,
    'complete -o default -F _pachter pachter',
  ].join('\n')
}

function fish(words: Words): string {
  return words
    .flatMap(([path, all]) => {
      const when = path === '' ? '__fish_use_subcommand' : `__fish_seen_subcommand_from ${path.split(' ').at(-1)}`
      return all.map((word) =>
        word.startsWith('--')
          ? `complete -c pachter -n '${when}' -l ${word.slice(2)}`
          : `complete -c pachter -n '${when}' -f -a ${word}`,
      )
    })
    .join('\n')
}
