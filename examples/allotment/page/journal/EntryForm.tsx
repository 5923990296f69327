import { Button, Group, Stack } from '@mantine/core'
import { Link } from 'react-router'
import { ChoiceField, TextField, type AnyForm } from '../parts/fields.js'
import { PlotField } from '../parts/choices.js'
import { FormNotes } from '../parts/FormNotes.js'
import type { Form } from 'pachter/react'
import { AUDIENCES } from '../words.js'

interface Props {
  readonly form: AnyForm & Pick<Form, 'save' | 'isSaving' | 'isChanged'> & Parameters<typeof FormNotes>[0]['form']
  readonly isNew?: boolean
  readonly back: string
}

const WHO = { private: 'only those it is shared with', members: 'all members', public: 'everybody' } as const

export function EntryForm({ form, isNew = false, back }: Props) {
  const audiences = Object.entries(AUDIENCES).map(([value, label]) => ({
    value,
    label: `${label}: ${WHO[value as keyof typeof WHO]}`,
  }))
  return (
    <form onSubmit={(event) => void form.save(event)}>
      <Stack maw="42rem">
        <FormNotes form={form} compared={['title', 'body']} />
        <TextField form={form} name="title" label="Title" required />
        <TextField form={form} name="body" label="What happened" lines={6} required />
        {isNew && <PlotField form={form} name="plotId" label="Plot" required />}
        <ChoiceField form={form} name="audience" label="Who may read it" choices={audiences} />
        <Group>
          <Button type="submit" loading={form.isSaving} disabled={!form.mayChange('title')}>
            Save
          </Button>
          <Button component={Link} to={back} variant="default">
            Cancel
          </Button>
        </Group>
      </Stack>
    </form>
  )
}
