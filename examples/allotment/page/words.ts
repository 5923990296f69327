const day = new Intl.DateTimeFormat(undefined, { dateStyle: 'medium' })
const euros = new Intl.NumberFormat(undefined, { style: 'currency', currency: 'EUR' })
const whole = new Intl.NumberFormat(undefined)

/** Dates and numbers as the reader's own language has them. */
export const date = (moment: Date | null | undefined): string => (moment ? day.format(moment) : '')
export const money = (cents: number | undefined): string => (cents === undefined ? '' : euros.format(cents / 100))
export const number = (amount: number | undefined): string => (amount === undefined ? '' : whole.format(amount))

/** A moment as an input for days has it, and back: the end of that day. */
export const dayOf = (moment: Date | null | undefined): string =>
  moment ? new Date(moment.getTime() - moment.getTimezoneOffset() * 60_000).toISOString().slice(0, 10) : ''
export const endOfDay = (typed: string): Date | null => (typed === '' ? null : new Date(`${typed}T23:59:59`))

export const AUDIENCES = {
  private: 'Private',
  members: 'Members',
  public: 'Public',
} as const

export const JOB_STATES = { open: 'Open', busy: 'Under way', done: 'Done' } as const

export const APPLICATION_STATES = { waiting: 'Waiting', approved: 'Approved', declined: 'Declined' } as const
