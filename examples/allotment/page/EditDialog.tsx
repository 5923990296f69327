import { Button, Modal, Stack, Textarea, TextInput } from '@mantine/core'
import { useEffect, useState } from 'react'
import { fetchRecord, type Listed, pathOf, type Table } from './api.js'
import { textsOf } from './Forge.js'
import type { Submit } from './RecordList.js'

interface Props {
  readonly table: Table
  readonly record: Listed
  readonly onClose: () => void
  readonly onSubmit: Submit
}

/** A form for the texts of a record; those that its caller may not change are locked. */
export function EditDialog({ table, record, onClose, onSubmit }: Props) {
  const path = pathOf(table, record)
  const shown = textsOf(table).filter((name) => record[name] !== undefined)
  const [values, setValues] = useState<Readonly<Record<string, string>> | null>(null)
  const [etag, setEtag] = useState<string | null>(null)

  useEffect(() => {
    void fetchRecord(path).then((now) => {
      setEtag(now.etag)
      setValues(Object.fromEntries(textsOf(table).map((name) => [name, String(now.record[name] ?? '')])))
    })
  }, [path, table])

  return (
    <Modal opened onClose={onClose} title="Edit">
      <Stack>
        {values &&
          shown.map((name, at) => {
            const Input = at === 0 ? TextInput : Textarea
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
          disabled={!values}
          onClick={() => {
            // Everything that is shown is sent back; what was not changed counts as no change.
            if (values) onSubmit('PATCH', path, Object.fromEntries(shown.map((name) => [name, values[name]])), etag)
            onClose()
          }}
        >
          Save
        </Button>
      </Stack>
    </Modal>
  )
}
