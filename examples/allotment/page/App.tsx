import { Container, Group, SegmentedControl, SimpleGrid, Stack, Text, Title } from '@mantine/core'
import { useEffect, useState } from 'react'
import { Answers } from './Answers.js'
import { type Answer, type CallerInfo, fetchCallers } from './api.js'
import { CallerPane } from './CallerPane.js'

const MOST_ANSWERS = 4

/** Korenveld as one caller, or two side by side. */
export function App() {
  const [callers, setCallers] = useState<readonly CallerInfo[]>([])
  const [panes, setPanes] = useState<readonly string[]>(['ana', 'ben'])
  const [answers, setAnswers] = useState<readonly Answer[]>([])

  useEffect(() => void fetchCallers().then(setCallers), [])

  const choose = (at: number, name: string) => setPanes(panes.map((each, index) => (index === at ? name : each)))
  // A change by one caller can change what the other sees, so both panes follow the answers.
  const answered = (answer: Answer) => setAnswers([answer, ...answers].slice(0, MOST_ANSWERS))

  return (
    <Container size="xl" py="sm" pb={150}>
      <Stack gap="sm">
        <Group justify="space-between">
          <Group align="baseline">
            <Title order={2}>Korenveld</Title>
            <Text c="dimmed">what each member of the association sees and may do</Text>
          </Group>
          <SegmentedControl
            aria-label="How many callers"
            value={String(panes.length)}
            onChange={(many) => setPanes(many === '1' ? panes.slice(0, 1) : [panes[0] ?? 'ana', 'ben'])}
            data={[
              { value: '1', label: 'One caller' },
              { value: '2', label: 'Side by side' },
            ]}
          />
        </Group>
        <SimpleGrid cols={panes.length}>
          {panes.map((name, at) => (
            <CallerPane
              key={at}
              callers={callers}
              caller={name}
              change={answers.length > 0 ? answers[0] : undefined}
              onChoose={(chosen) => choose(at, chosen)}
              onAnswer={answered}
            />
          ))}
        </SimpleGrid>
      </Stack>
      <Answers answers={answers} />
    </Container>
  )
}
