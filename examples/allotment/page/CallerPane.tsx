import { Button, Group, NumberInput, Paper, Select, Stack, Tabs, Text } from '@mantine/core'
import { useEffect, useState } from 'react'
import { type Answer, type CallerInfo, fetchRecords, type Listed, send, type Table } from './api.js'
import { RecordList } from './RecordList.js'

interface Props {
  readonly callers: readonly CallerInfo[]
  readonly caller: string
  /** The latest change made by anyone; the records are fetched again after it. */
  readonly change: Answer | undefined
  readonly onChoose: (caller: string) => void
  readonly onAnswer: (answer: Answer) => void
}

interface Loaded {
  readonly records: readonly Listed[]
  readonly refusal?: string
}

const NOTHING: Loaded = { records: [] }

/** The association as one caller gets it. */
export function CallerPane({ callers, caller, change, onChoose, onAnswer }: Props) {
  const [table, setTable] = useState<Table>('entries')
  const [entries, setEntries] = useState(NOTHING)
  const [jobs, setJobs] = useState(NOTHING)

  useEffect(() => {
    // A slow answer for the caller shown before must not overwrite this one's.
    let current = true
    const load = async (name: Table, set: (loaded: Loaded) => void) => {
      const loaded = await fetchRecords(caller, name)
      if (current) set(loaded)
    }
    void load('entries', setEntries)
    void load('jobs', setJobs)
    return () => {
      current = false
    }
  }, [caller, change])

  const submit = async (method: 'PATCH' | 'DELETE', key: number, values?: object) =>
    onAnswer(await send(caller, method, table, key, values))
  const { records, refusal } = table === 'entries' ? entries : jobs

  return (
    <Paper withBorder p="sm" component="section" aria-label={`as ${caller}`}>
      <Stack gap="xs">
        <Group gap="xs">
          <Select
            aria-label="Caller"
            value={caller}
            onChange={(name) => name && onChoose(name)}
            data={callers.map(({ name }) => name)}
            w={120}
            allowDeselect={false}
          />
          <Text size="sm" c="dimmed">
            {callers.find(({ name }) => name === caller)?.description}
          </Text>
        </Group>
        <Tabs value={table} onChange={(value) => setTable(value as Table)}>
          <Tabs.List>
            <Tabs.Tab value="entries">Journal entries ({entries.refusal ? 'none' : entries.records.length})</Tabs.Tab>
            <Tabs.Tab value="jobs">Jobs ({jobs.refusal ? 'none' : jobs.records.length})</Tabs.Tab>
          </Tabs.List>
        </Tabs>
        <Forge table={table} onSend={(key) => submit('PATCH', key, { title: 'Forged' })} />
        {refusal ? <Text c="red">{refusal}</Text> : <RecordList table={table} records={records} onSubmit={submit} />}
      </Stack>
    </Paper>
  )
}

/** Sends a change to any record by its number, as somebody does who guesses a URL. */
function Forge({ table, onSend }: { readonly table: Table; readonly onSend: (key: number) => void }) {
  const [key, setKey] = useState<number>(7)
  return (
    <Group gap="xs">
      <Text size="sm">Change the title of {table} no.</Text>
      <NumberInput
        aria-label="Number"
        size="xs"
        w={64}
        min={1}
        value={key}
        onChange={(value) => setKey(Number(value))}
      />
      <Button size="compact-sm" variant="default" onClick={() => onSend(key)}>
        anyway
      </Button>
    </Group>
  )
}
