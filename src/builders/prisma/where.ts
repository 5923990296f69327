import { type Condition, type ConditionOf, normalise, notOf, operandsOf, type Some } from '../../condition/index.js'
import { compareWhere } from './compare.js'
import type { Place, Said, Where } from './place.js'

/**
 * A condition as a `where` of Prisma's. Of a comparison with a missing value, databases say neither yes nor no: every
 * negation says what missing values are, so that the logic stays two-valued.
 *
 * @param condition decided, with negations before comparisons and steps only
 */
export function whereOf(place: Place, condition: Condition): Said {
  switch (condition.kind) {
    case 'always':
    case 'never':
      return condition.kind === 'always'
    case 'all':
      return all(condition.of.map((part) => whereOf(place, part)))
    case 'any':
      return any(condition.of.map((part) => whereOf(place, part)))
    case 'not': {
      const { of } = condition
      if (of.kind === 'isSet' || of.kind === 'compare' || of.kind === 'some') return negated(place, of)
      return place.refuse('it hangs on who asks, or on a change')
    }
    case 'isSet':
      return condition.operand.kind === 'value' || not(place.missing(condition.operand))
    case 'compare':
      return compareWhere(place, condition)
    case 'some':
      return stepping(place, condition, condition.one ? 'is' : 'some', condition.where)
    case 'signedIn':
    case 'role':
    case 'channel':
    case 'may':
    case 'after':
    case 'unchanged':
      return place.refuse('it hangs on who asks, or on a change')
  }
}

function negated(place: Place, leaf: ConditionOf<'isSet' | 'compare' | 'some'>): Said {
  switch (leaf.kind) {
    case 'isSet':
      return leaf.operand.kind !== 'value' && place.missing(leaf.operand)
    case 'compare': {
      const fields = operandsOf(leaf).filter(({ kind }) => kind === 'field')
      return any([...fields.map((field) => place.missing(field)), not(compareWhere(place, leaf))])
    }
    case 'some':
      if (!leaf.one) return not(stepping(place, leaf, 'some', leaf.where))
      // There is no such record, also where one is named that is not there; or it does not meet the condition.
      return any([
        stepping(place, leaf, 'is', normalise(notOf(leaf.where))),
        { [place.names.stepOf(place.table, leaf)]: { isNot: {} } },
      ])
  }
}

function stepping(place: Place, step: Some, how: 'is' | 'some', where: Condition): Said {
  const met = whereOf(place.after(step), where)
  return met && { [place.names.stepOf(place.table, step)]: { [how]: met === true ? {} : met } }
}

const not = (said: Said): Said => (typeof said === 'boolean' ? !said : { NOT: said })

function all(parts: readonly Said[]): Said {
  if (parts.includes(false)) return false
  const asked = parts.filter((part): part is Where => part !== true)
  return asked.length === 0 ? true : { AND: asked }
}

function any(parts: readonly Said[]): Said {
  if (parts.includes(true)) return true
  const asked = parts.filter((part): part is Where => part !== false)
  return asked.length === 0 ? false : { OR: asked }
}
