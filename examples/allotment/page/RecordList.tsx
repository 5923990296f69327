import { ActionIcon, Badge, Button, Group, Modal, Stack, Table, Text, Textarea, TextInput } from '@mantine/core'
import { useState } from 'react'
import type { Listed, Table as TableName } from './api.js'

type Submit = (method: 'PATCH' | 'DELETE', key: number, values?: object) => void

interface Props {
  readonly table: TableName
  readonly records: readonly Listed[]
  readonly onSubmit: Submit
}

/** The records a caller sees, with buttons for what the server said may be done to each. */
export function RecordList({ table, records, onSubmit }: Props) {
  const [edited, setEdited] = useState<Listed | null>(null)
  const [deleted, setDeleted] = useState<Listed | null>(null)
  return (
    <>
      <Table verticalSpacing={4} highlightOnHover>
        <Table.Tbody>
          {records.map((record) => (
            <Table.Tr key={record.id} data-testid={`${table}-${record.id}`}>
              <Table.Td w={36} c="dimmed">
                {record.id}
              </Table.Td>
              <Table.Td>
                <Text size="sm">{record.title}</Text>
                <Group gap={4}>
                  <Badge size="xs" color="gray" variant="light">
                    {String('status' in record ? record.status : 'audience' in record ? record.audience : '')}
                  </Badge>
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
                  {!record.$access.may.update && (
                    <ActionIcon
                      size="sm"
                      w={58}
                      variant="default"
                      title="Send a change of the title although it is not permitted"
                      onClick={() => onSubmit('PATCH', record.id, { title: 'Forged' })}
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
      {edited && <EditDialog record={edited} onClose={() => setEdited(null)} onSubmit={onSubmit} />}
      <Modal opened={deleted !== null} onClose={() => setDeleted(null)} title={`Delete “${deleted?.title}”?`}>
        <Group justify="flex-end">
          <Button variant="default" onClick={() => setDeleted(null)}>
            Keep it
          </Button>
          <Button
            color="red"
            onClick={() => {
              if (deleted) onSubmit('DELETE', deleted.id)
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

/** The texts of a record that can be edited here, whichever of them the caller may change. */
const TEXTS = ['title', 'body', 'details'] as const

function EditDialog({
  record,
  onClose,
  onSubmit,
}: {
  readonly record: Listed
  readonly onClose: () => void
  readonly onSubmit: Submit
}) {
  const texts = record as Listed & Partial<Record<(typeof TEXTS)[number], string>>
  const shown = TEXTS.filter((name) => texts[name] !== undefined)
  const [values, setValues] = useState(Object.fromEntries(shown.map((name) => [name, texts[name] ?? ''])))
  return (
    <Modal opened onClose={onClose} title={`Edit “${record.title}”`}>
      <Stack>
        {shown.map((name) => {
          const Input = name === 'title' ? TextInput : Textarea
          return (
            <Input
              key={name}
              label={name}
              disabled={!record.$access.changeable.includes(name)}
              value={values[name] ?? ''}
              onChange={(event: { currentTarget: { value: string } }) =>
                setValues({ ...values, [name]: event.currentTarget.value })
              }
            />
          )
        })}
        <Button
          onClick={() => {
            // Everything is sent back; what was not changed counts as no change.
            onSubmit('PATCH', record.id, values)
            onClose()
          }}
        >
          Save
        </Button>
      </Stack>
    </Modal>
  )
}
