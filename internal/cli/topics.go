package cli

import "github.com/spf13/cobra"

// expressions is a help topic: it runs nothing.
func expressions() *cobra.Command {
	return &cobra.Command{
		Use:   "expressions",
		Short: "What --where and --derive take",
		Long: `Expressions are those of standard SQL (ISO/IEC 9075-2), over one record.

  columns      depth_m, "Sea Area", position.lat (members of objects follow points)
  literals     12, 1.5e3, 'it''s calm', TRUE, NULL, DATE '2031-05-01', TIME '10:00', TIMESTAMP '2031-05-01 10:00:00Z'
  arithmetic   + - * /   MOD(a, b)  ABS(x)  FLOOR(x)  CEILING(x)  SQRT(x)  POWER(x, y)  LN(x)  EXP(x)
  comparison   = <> < <= > >=   BETWEEN a AND b   IN (a, b)   LIKE 'c%m_'
  logic        AND OR NOT   IS NULL   IS TRUE   IS FALSE, and with IS NOT
  text         a || b   UPPER(t)  LOWER(t)  CHAR_LENGTH(t)  TRIM(LEADING '0' FROM t)
               SUBSTRING(t FROM 2 FOR 3)  POSITION('x' IN t)
  dates        EXTRACT(YEAR FROM day), and MONTH, DAY, HOUR, MINUTE, SECOND; in UTC
  nulls        COALESCE(a, b)  NULLIF(a, b)
  conditions   CASE WHEN depth_m > 10 THEN 'deep' ELSE 'shallow' END
  types        CAST(x AS long), and double, decimal(9,2), string, boolean, date, time, timestamp, timestamptz

What is asked of a null is unknown, and --where keeps only records for which the expression is true. Whole numbers divide to whole
numbers. Decimals are exact, also beside whole numbers and literals like 0.10; their quotient is a double. A division by zero, a
number beyond its type or a text that is no value of the type it is cast to ends the run. NULLIF and CASE take care of such values,
and so do AND and OR, whose second side is not asked where the first decides. Words are in any letter case, names of columns too
where that is clear.`,
		Example: `  trevak preview trevak-demo/observations --where 'buoy.position.lat > 58' --unnest readings
  trevak preview trevak-demo/observations --unnest readings --nested flatten --derive 'north = buoy_position_lat > 58'`,
	}
}
