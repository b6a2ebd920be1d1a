import java.math.BigDecimal;
import java.sql.*;
import java.util.Properties;

/** What a reporting tool does with the SQL port: Client URL USER PASSWORD */
public class Client {
  public static void main(String[] args) throws Exception {
    Properties p = new Properties();
    p.put("user", args[1]);
    p.put("password", args[2]);
    try (Connection c = DriverManager.getConnection(args[0], p)) {
      DatabaseMetaData m = c.getMetaData();
      System.out.println(m.getDatabaseProductName() + " " + m.getDatabaseMajorVersion() + " " + m.getUserName());
      show("schemas", m.getSchemas(), 1);
      show("tables", m.getTables(null, "drilling", "%", new String[] {"TABLE", "VIEW"}), 2, 3, 4);
      show("columns", m.getColumns(null, "drilling", "lithology", "%"), 4, 6, 18);
      show("keys", m.getPrimaryKeys(null, "drilling", "lithology"), 4, 6);
      show("imported", m.getImportedKeys(null, "drilling", "lithology"), 3, 4, 7, 8);
      show("exported", m.getExportedKeys(null, "drilling", "boreholes"), 7, 8);
      show("indexes", m.getIndexInfo(null, "drilling", "lithology", true, false), 6, 9);
      show("catalogs", m.getCatalogs(), 1);
      show("privileges", m.getTablePrivileges(null, "drilling", "boreholes"), 5, 6);
      m.getTypeInfo().close();
      m.getFunctions(null, null, "%").close();
      m.getProcedures(null, null, "%").close();
      m.getColumnPrivileges(null, "drilling", "boreholes", "%").close();
      m.getSQLKeywords();

      c.setAutoCommit(false);
      try (PreparedStatement s = c.prepareStatement("select id, name, depth_m, drilled_on, cost from drilling.boreholes where district = ? and depth_m > ? order by id")) {
        s.setFetchSize(100);
        s.setString(1, "north");
        s.setDouble(2, 10.5);
        for (int round = 0; round < 7; round++) { // from the fifth on the driver asks for binary values
          int n = 0;
          try (ResultSet r = s.executeQuery()) {
            while (r.next()) {
              if (++n == 1 && (round == 0 || round == 6))
                System.out.println(r.getLong(1) + " " + r.getString(2) + " " + r.getDouble(3) + " " + r.getDate(4));
              if (n == 250 && round == 2)
                try (Statement q = c.createStatement(); ResultSet between = q.executeQuery("select count(*) from drilling.lithology")) {
                  between.next();
                  System.out.println("between " + (between.getLong(1) > 0));
                }
            }
          }
          if (round == 6) System.out.println("rows " + n);
        }
      }
      c.commit();
      try (Statement s = c.createStatement()) {
        s.executeUpdate("insert into drilling.boreholes (id) values (1)");
      } catch (SQLException e) {
        System.out.println("refused " + e.getSQLState());
      }
      c.rollback();
      try (PreparedStatement s = c.prepareStatement("insert into field.visits (id, crew_id, borehole_id, visited_on, note) values (?, ?, ?, ?, ?)")) {
        for (int i = 0; i < 3; i++) {
          s.setInt(1, 990000 + i);
          s.setInt(2, 1);
          s.setInt(3, 1);
          s.setDate(4, Date.valueOf("2026-05-01"));
          s.setString(5, "by a batch");
          s.addBatch();
        }
        int done = 0;
        for (int n : s.executeBatch()) done += n;
        System.out.println("batch " + done);
      }
      c.rollback();
      c.setAutoCommit(true);
      try (Statement s = c.createStatement(); ResultSet r = s.executeQuery("select count(*) from field.visits where note = 'by a batch'")) {
        r.next();
        System.out.println("rolled back " + r.getLong(1));
      }
      try (Statement s = c.createStatement()) {
        s.setQueryTimeout(1);
        s.executeQuery("select count(*) from drilling.boreholes a, drilling.boreholes b, drilling.boreholes c where a.depth_m + b.depth_m > c.depth_m");
      } catch (SQLException e) {
        System.out.println("cancelled " + e.getSQLState());
      }
    }
  }

  private static void show(String what, ResultSet r, int... columns) throws SQLException {
    StringBuilder b = new StringBuilder(what).append(":");
    while (r.next()) {
      b.append(" ");
      for (int i = 0; i < columns.length; i++) b.append(i > 0 ? "." : "").append(r.getString(columns[i]));
    }
    System.out.println(b);
    r.close();
  }
}
