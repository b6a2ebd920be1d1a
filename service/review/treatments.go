package review

import (
	"gneiss/core/policy"
	"gneiss/wire"
)

// wireTreatment is a treatment as callers see it.
func wireTreatment(t policy.Treatment) *wire.Treatment {
	return &wire.Treatment{Kind: t.Kind.String(),
		KeepFirst: t.KeepFirst, KeepLast: t.KeepLast, Keep: t.Keep, Fill: t.Fill,
		Value:  t.Value,
		Bucket: t.Bucket, Unit: t.Unit, Prefix: t.Prefix, Mapping: t.Mapping.Groups(),
		Decimals: t.Decimals, Multiple: t.Multiple,
		Range: t.Range, Stable: t.Stable,
		Expression: t.SQL, Paths: t.Paths}
}

// TreatmentArguments are the arguments of a treatment that a caller asks for.
func TreatmentArguments(t *wire.Treatment) policy.Treatment {
	return policy.Treatment{
		KeepFirst: t.KeepFirst, KeepLast: t.KeepLast, Keep: t.Keep, Fill: t.Fill,
		Value:  t.Value,
		Bucket: t.Bucket, Unit: t.Unit, Prefix: t.Prefix, Mapping: policy.NewMapping(t.Mapping),
		Decimals: t.Decimals, Multiple: t.Multiple,
		Range: t.Range, Stable: t.Stable,
		SQL: t.Expression, Paths: t.Paths}
}
