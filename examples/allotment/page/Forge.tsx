import { Button, Group, NumberInput, Text } from '@mantine/core'
import { useState } from 'react'
import { tableOf } from 'pachter/model'
import { model } from '../model.js'
import type { Table } from './api.js'

interface Props {
  readonly table: Table
  readonly onSend: (key: number, values: object) => void
}

/** Sends a change to any record by its number, as somebody does who guesses an address. */
export function Forge({ table, onSend }: Props) {
  const [key, setKey] = useState<number>(7)
  const text = textsOf(table)[0]
  if (text === undefined || tableOf(model, table).key.length > 1) return null
  return (
    <Group gap="xs">
      <Text size="sm">
        Change the {text} of {table} no.
      </Text>
      <NumberInput
        aria-label="Number"
        size="xs"
        w={64}
        min={1}
        value={key}
        onChange={(value) => setKey(Number(value))}
      />
      <Button size="compact-sm" variant="default" onClick={() => onSend(key, { [text]: 'Forged' })}>
        anyway
      </Button>
    </Group>
  )
}

/** The fields of a table that are texts. */
export const textsOf = (table: Table): readonly string[] =>
  Object.entries(tableOf(model, table).fields).flatMap(([name, { type }]) => (type === 'text' ? [name] : []))
