// What the values of a type are, by its name with or without a modifier: numeric(15,2).
const of = (names: string) => {
  const pattern = new RegExp(`^(${names})(\\(.*\\))?$`)
  return (type: string) => pattern.test(type)
}

export const isNumber = of('smallint|integer|bigint|numeric|real|double precision')
export const isText = of('text|character varying|character|name')
export const isDate = of('date|timestamp|timestamp with time zone')
export const isDocument = of('json|jsonb')

/** A type's name without its length or precision. */
export const unmodified = (type: string) => type.replace(/\(.*\)/, '')
