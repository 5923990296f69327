import { ActionIcon, Badge, Button, Group, Modal, Table, Text } from '@mantine/core'
import { useState } from 'react'
import { tableOf } from 'pachter/model'
import { model } from '../model.js'
import { type Listed, pathOf, type Table as TableName } from './api.js'
import { EditDialog } from './EditDialog.js'
import { textsOf } from './Forge.js'

/** Sends a change of a record. */
export type Submit = (method: 'PATCH' | 'DELETE', path: string, values?: object, etag?: string | null) => void

interface Props {
  readonly table: TableName
  readonly records: readonly Listed[]
  readonly onSubmit: Submit
}

/** The records that came, with buttons for what the server said may be done to each. */
export function RecordList({ table, records, onSubmit }: Props) {
  const [edited, setEdited] = useState<Listed | null>(null)
  const [deleted, setDeleted] = useState<Listed | null>(null)
  const { key, fields } = tableOf(model, table)
  const [label] = textsOf(table)
  const rest = Object.keys(fields).filter((name) => name !== label && !key.includes(name))
  const text = label ?? ''
  return (
    <>
      <Table verticalSpacing={4} highlightOnHover>
        <Table.Tbody>
          {records.map((record) => (
            <Table.Tr key={pathOf(table, record)} data-testid={pathOf(table, record).slice('/api/'.length)}>
              <Table.Td w={56} c="dimmed">
                {key.map((name) => String(record[name])).join(', ')}
              </Table.Td>
              <Table.Td>
                {label && <Text size="sm">{String(record[label] ?? '–')}</Text>}
                <Text size="xs" c="dimmed" lineClamp={1}>
                  {rest
                    .filter((name) => !isEmpty(record[name]))
                    .map((name) => `${name} ${shown(record[name])}`)
                    .join(' · ')}
                </Text>
              </Table.Td>
              <Table.Td w={220}>
                <Group gap={4}>
                  {record.$access.seenBy.map((who) => (
                    <Badge key={who} size="xs" variant="outline" tt="none">
                      {who}
                    </Badge>
                  ))}
                </Group>
              </Table.Td>
              <Table.Td w={150} align="right">
                <Group gap={4} justify="flex-end" wrap="nowrap">
                  {record.$access.may.update && (
                    <Button size="compact-xs" variant="light" onClick={() => setEdited(record)}>
                      Edit
                    </Button>
                  )}
                  {record.$access.may.delete && (
                    <Button size="compact-xs" variant="light" color="red" onClick={() => setDeleted(record)}>
                      Delete
                    </Button>
                  )}
                  {!record.$access.may.update && label && (
                    <ActionIcon
                      size="sm"
                      w={58}
                      variant="default"
                      title={`Send a change of the ${text} although it is not permitted`}
                      onClick={() => onSubmit('PATCH', pathOf(table, record), { [text]: 'Forged' })}
                    >
                      <Text size="xs">anyway</Text>
                    </ActionIcon>
                  )}
                </Group>
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      {edited && <EditDialog table={table} record={edited} onClose={() => setEdited(null)} onSubmit={onSubmit} />}
      <Modal opened={deleted !== null} onClose={() => setDeleted(null)} title="Delete it?">
        <Group justify="flex-end">
          <Button variant="default" onClick={() => setDeleted(null)}>
            Keep it
          </Button>
          <Button
            color="red"
            onClick={() => {
              if (deleted) onSubmit('DELETE', pathOf(table, deleted))
              setDeleted(null)
            }}
          >
            Delete it
          </Button>
        </Group>
      </Modal>
    </>
  )
}

const isEmpty = (value: unknown): boolean =>
  value === null || value === undefined || (Array.isArray(value) && value.length === 0)

const shown = (value: unknown): string =>
  typeof value === 'string' && /^\d{4}-\d\d-\d\dT/.test(value) ? value.slice(0, 10) : String(value)
