import { Button, Group, SimpleGrid, Stack } from '@mantine/core'
import { Link, useNavigate } from 'react-router'
import { SiteField } from '../parts/choices.js'
import { DayField, TextField } from '../parts/fields.js'
import { FormNotes } from '../parts/FormNotes.js'
import { Head } from '../parts/Head.js'
import { useForm } from '../records.js'

export function NewJobPage() {
  const go = useNavigate()
  const form = useForm('jobs', { onSaved: ({ id }) => go(`/jobs/${id}`) })
  return (
    <>
      <Head title="Report a job" lead="The warden of the site sees it, and finds somebody to do it." />
      <form onSubmit={(event) => void form.save(event)}>
        <Stack maw="42rem">
          <FormNotes form={form} />
          <TextField form={form} name="title" label="What" required />
          <TextField form={form} name="details" label="Details" lines={3} required />
          <SimpleGrid cols={{ base: 1, xs: 2 }}>
            <SiteField form={form} name="siteId" label="Where" required />
            <DayField form={form} name="dueAt" label="Due" required />
          </SimpleGrid>
          <Group>
            <Button type="submit" loading={form.isSaving} disabled={!form.mayChange('title')}>
              Report it
            </Button>
            <Button component={Link} to="/jobs" variant="default">
              Cancel
            </Button>
          </Group>
        </Stack>
      </form>
    </>
  )
}
