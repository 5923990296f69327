import {
  bigInteger,
  boolean,
  bytes,
  choice,
  date,
  decimal,
  defineCaller,
  defineModel,
  defineRules,
  float,
  integer,
  json,
  list,
  text,
  time,
  timestamp,
  uuid,
} from 'pachter'

/** A field of every type, which anybody can read and write. */
export const model = defineModel({
  samples: {
    id: bigInteger().key(),
    text: text(),
    choice: choice('draft', 'Draft', 'done').optional(),
    integer: integer().optional(),
    bigInteger: bigInteger().optional(),
    decimal: decimal(2).optional(),
    float: float().optional(),
    boolean: boolean(),
    timestamp: timestamp().optional(),
    date: date().optional(),
    time: time().optional(),
    uuid: uuid().optional(),
    texts: list(text()),
    bigIntegers: list(bigInteger()).optional(),
    bytes: bytes().optional(),
    json: json().optional(),
  },
})

export const rules = defineRules(model, defineCaller({ id: integer() }), {
  samples: ({ anyone, table }) =>
    table.conflicts('told').grants({ read: [anyone], create: [anyone], update: [anyone] }),
})
