import { Button, SimpleGrid, Stack, Title } from '@mantine/core'
import { MemberField, PlotField } from '../parts/choices.js'
import { TextField } from '../parts/fields.js'
import { FormNotes } from '../parts/FormNotes.js'
import { useForm } from '../records.js'

/** Asks a member for the rent of a plot; for the treasurer. */
export function RentForm() {
  const form = useForm('rents', { values: { year: new Date().getFullYear() } })
  return (
    <section aria-labelledby="ask">
      <Title order={2} id="ask" mb="sm">
        Ask for a rent
      </Title>
      <form onSubmit={(event) => void form.save(event)}>
        <Stack maw="42rem">
          <FormNotes form={form} />
          <SimpleGrid cols={{ base: 1, xs: 2 }}>
            <MemberField form={form} name="memberId" label="Who" required />
            <PlotField form={form} name="plotId" label="For which plot" required />
            <TextField form={form} name="year" label="Year" required />
            <TextField form={form} name="amountCents" label="Amount, in cents" required />
          </SimpleGrid>
          <div>
            <Button type="submit" loading={form.isSaving} disabled={!form.mayChange('memberId')}>
              Ask for it
            </Button>
          </div>
        </Stack>
      </form>
    </section>
  )
}
